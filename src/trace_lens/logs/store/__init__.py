"""Where loaded events are kept and found."""
