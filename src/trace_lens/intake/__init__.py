"""Evidence as it arrives: bytes in, layers peeled, and what it is.

Nothing here opens a file or judges a message; the layers and the search over them live here.
"""
