"""Log files that no description names: their format, what each column holds, whose log it is."""
