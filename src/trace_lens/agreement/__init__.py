"""Both sides' settings and documents compared, without any capture."""
