"""Lets `python -m trace_lens` do what the command `trace-lens` does."""

from trace_lens.cli import main

if __name__ == "__main__":
    main()
