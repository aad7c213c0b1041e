"""Elements made as the shot runs."""
