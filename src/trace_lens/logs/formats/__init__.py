"""Log files read: records, times, events."""
