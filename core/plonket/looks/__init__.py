"""Looks: what is done to a picture's colour, sharpness and light."""
