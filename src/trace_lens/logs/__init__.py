"""Sign-in logs: read in every format that people export, as events of one shape."""
