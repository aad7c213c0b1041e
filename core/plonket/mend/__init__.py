"""Mending: what should not be there, replaced by what would be seen without it."""
