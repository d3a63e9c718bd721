"""Certificates, fingerprints and pasted PEM: bytes and text in, typed objects out, no files and no clock."""
