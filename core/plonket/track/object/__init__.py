"""Rigid objects that move, solved from points on them."""
