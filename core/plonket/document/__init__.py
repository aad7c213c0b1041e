"""The shot document: everything that a creator decided about one shot."""
