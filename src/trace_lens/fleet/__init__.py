"""All applications together: what ends when, and whom it hits."""
