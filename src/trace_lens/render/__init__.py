"""Diagnoses, messages and lists as JSON or for the terminal; nothing is decided here."""
