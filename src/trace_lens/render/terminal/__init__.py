"""The terminal: documents laid out in columns, with colour."""
