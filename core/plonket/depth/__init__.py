"""Dense depth of a clip whose camera is solved."""
