"""Surfaces: read from files, made as simple forms, and seen by a camera."""
