"""Keys: a subject told from what is behind it by light and colour."""
