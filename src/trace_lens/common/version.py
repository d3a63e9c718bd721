"""The version of the program."""

__version__ = "0.2.0"
