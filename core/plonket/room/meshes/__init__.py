"""Surfaces: read from files or made, seen and measured."""
