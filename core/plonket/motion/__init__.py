"""Motions: measured movements that other things may follow."""
