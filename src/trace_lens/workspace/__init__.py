"""The workspace: the settings of every application and provider, their lists and certificates, read from files.

This is the one part of the core that opens files. What it finds is handed on as objects that know their file and line.
"""
