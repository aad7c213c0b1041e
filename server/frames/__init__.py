"""Frames as pictures for the browser."""
