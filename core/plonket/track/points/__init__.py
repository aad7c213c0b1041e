"""Point motion: small details followed to a fraction of a pixel."""
