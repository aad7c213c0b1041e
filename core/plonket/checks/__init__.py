"""Checks: does what is attached hold, and what would be good to follow."""
