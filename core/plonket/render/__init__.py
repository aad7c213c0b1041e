"""Frames of a whole shot: what is read, stacked, shown and delivered."""
