"""The installed program as a process of its own: what only a process can show."""

from __future__ import annotations

import fcntl
import os
import pty
import signal
import subprocess
import sys
import termios
import threading
from pathlib import Path

import pytest

from kit import PROVIDER, attribute, posted, response, run_program, workspace
from trace_lens import __version__

PROGRAM = str(Path(sys.executable).with_name("trace-lens"))


def test_it_starts_and_says_its_version() -> None:
    assert run_program("--version").stdout.decode() == f"trace-lens {__version__}\n"


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_completion(shell: str) -> None:
    assert b"trace-lens" in run_program(_TRACE_LENS_COMPLETE=f"{shell}_source").stdout
    if shell == "fish":
        done = run_program(_TRACE_LENS_COMPLETE="fish_complete", COMP_WORDS="trace-lens ", COMP_CWORD="dia")
        assert b"diagnose" in done.stdout


@pytest.mark.parametrize(
    ("arguments", "data", "status"),
    [
        (("diagnose", "-"), posted(response()), 0),
        (("diagnose", "-"), posted(response(signed="none")), 1),
        (("diagnose", "--no-such-option"), b"", 2),
        (("diagnose", "-"), b"nothing of a sign-in", 3),
        (("diagnose", "nowhere.txt"), b"", 3),
        (("decode",), posted(response()), 0),
    ],
)
def test_exit_status(arguments: tuple[str, ...], data: bytes, status: int, tmp_path: Path) -> None:
    done = run_program(*arguments, folder=workspace(tmp_path), stdin=data)
    assert done.returncode == status, done.stderr
    assert b"Traceback" not in done.stderr


def test_wrong_settings_are_told_on_standard_error(tmp_path: Path) -> None:
    done = run_program("apps", "list", folder=workspace(tmp_path, provider=PROVIDER + "nothing = 1\n"))
    assert (done.returncode, done.stdout, b"nothing" in done.stderr) == (2, b"", True)


def test_a_reader_that_goes_away_is_no_error() -> None:
    with subprocess.Popen([PROGRAM, "explain"], stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        assert process.stdout
        assert process.stderr
        process.stdout.readline()
        process.stdout.close()
        assert (process.wait(timeout=30), process.stderr.read()) == (0, b"")


def _interruptible() -> None:
    """Processes in the background of a shell ignore interruptions, and so do those that they start."""
    signal.signal(signal.SIGINT, signal.default_int_handler)


def test_an_interruption_is_said_in_a_word() -> None:
    with subprocess.Popen(
        [PROGRAM, "decode", "-"], stdin=subprocess.PIPE, stderr=subprocess.PIPE, preexec_fn=_interruptible
    ) as process:
        assert process.stdin
        process.stdin.write(b"x" * 200_000)  # it reads, once it takes more than fits into a pipe
        process.stdin.flush()
        process.send_signal(signal.SIGINT)
        _, words = process.communicate(timeout=30)
        assert (process.returncode, b"Traceback" in words, b"nterrupted" in words) == (130, False, True)


@pytest.mark.parametrize("told", [{"NO_COLOR": "1"}, {"TERM": "dumb"}, {}])
def test_no_colour_in_a_pipe(told: dict[str, str], tmp_path: Path) -> None:
    done = run_program("diagnose", "-", folder=workspace(tmp_path), stdin=posted(response()), **told)
    assert b"\x1b" not in done.stdout


@pytest.mark.parametrize("locale", ["C", "C.UTF-8"])
def test_any_locale(locale: str, tmp_path: Path) -> None:
    sent = posted(response(attributes=attribute("role", "båtsmann")))
    done = run_program(
        "decode", "-", folder=workspace(tmp_path), stdin=sent, LC_ALL=locale, PYTHONUTF8="0", PYTHONCOERCECLOCALE="0"
    )
    assert (done.returncode, b"Traceback" in done.stderr) == (0, False)


def _at_its_terminal() -> None:
    """Make standard input the terminal that the process belongs to, so that Ctrl-C reaches it."""
    _interruptible()
    os.setsid()
    fcntl.ioctl(0, termios.TIOCSCTTY, 0)


def _pasted(text: bytes, *more: bytes) -> tuple[int, bytes]:
    """Type a text into the program's terminal, once it has asked for it; exit status and what it wrote."""
    ours, theirs = pty.openpty()
    process = subprocess.Popen(
        [PROGRAM, "decode", "--format", "json"],
        stdin=theirs,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        preexec_fn=_at_its_terminal,
    )
    os.close(theirs)
    assert process.stderr
    assert b"Ctrl-D" in process.stderr.readline()

    def echo() -> None:
        try:
            while os.read(ours, 65_536):
                pass
        except OSError:
            return

    threading.Thread(target=echo, daemon=True).start()
    for part in (text, *more):
        for start in range(0, len(part), 1024):
            os.write(ours, part[start : start + 1024])
    output, _ = process.communicate(timeout=30)
    return process.returncode, output


def test_a_long_paste_is_read_whole() -> None:
    """A terminal in line mode would lose what is beyond 4,095 characters of a line."""
    sent = posted(response(attributes=attribute("role", *[f"watch-{number}" for number in range(4000)])))
    assert len(sent) > 200_000
    assert b"\n" not in sent
    status, output = _pasted(sent, b"\x04")
    assert (status, b"watch-3999" in output) == (0, True)


def test_a_paste_can_be_interrupted() -> None:
    assert _pasted(b"SAMLResponse=", b"\x03")[0] == 130
