"""Ready-made elements of the shelf, drawn by code."""
