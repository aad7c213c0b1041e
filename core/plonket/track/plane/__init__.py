"""Plane motion: a flat surface, registered whole."""
