"""The far side, spoken to: the only part that opens a connection."""
