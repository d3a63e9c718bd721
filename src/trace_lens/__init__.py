"""Trace Lens: why a single sign-on failed, on whose side, and which value repairs it.

The command line lives in `trace_lens.cli`; everything below `trace_lens.render` can be used as a library.
"""

__version__ = "0.1.0"
