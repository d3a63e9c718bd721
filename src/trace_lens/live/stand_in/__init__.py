"""A small provider and a small application on loopback, with faults that can be switched on while they run."""
