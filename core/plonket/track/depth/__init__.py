"""Depth of a solved clip: what is asked for, and what was measured."""
