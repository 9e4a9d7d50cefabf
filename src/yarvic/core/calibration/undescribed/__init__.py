"""Images that nobody described: where tables lie in them, and what their checksums cover."""
