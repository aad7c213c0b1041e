"""Mends and clean frames: what is borrowed, made up, painted, and laid over the plate."""
