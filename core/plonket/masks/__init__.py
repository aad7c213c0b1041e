"""Masks: what part of a picture something applies to."""
