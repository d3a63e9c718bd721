"""Two attempts, documents or certificates compared."""
