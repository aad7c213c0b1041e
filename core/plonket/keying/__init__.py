"""Keys: light with its background taken out."""
