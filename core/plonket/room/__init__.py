"""Solved rooms: cameras, lenses, alignment, spots, boxes and meshes."""
