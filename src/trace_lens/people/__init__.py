"""Accounts, guests, rewriting rules, spellings of one person."""
