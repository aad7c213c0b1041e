"""Shots, their revisions and measurements."""
