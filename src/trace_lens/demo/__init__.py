"""The demo: Northmere Ferries, its provider, its applications, its people, and what went wrong in one fortnight.

Everything is generated: deterministic from a seed but for the keys, which are made anew each time. Messages are signed
by code of its own, never by the code that verifies.
"""
