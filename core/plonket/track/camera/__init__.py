"""Camera motion: the whole set solved in 3D from many details."""
