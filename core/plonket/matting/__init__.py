"""Mattes: a thing told from what lies round it, by clicks, strokes and movement, with soft edges."""
