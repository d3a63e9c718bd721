"""Messages laid open."""
