"""Finished videos."""
