"""Mattes that were picked: what is asked for, and what was measured."""
