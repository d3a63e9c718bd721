"""Documents of results: one module a command, or a kind of result."""
