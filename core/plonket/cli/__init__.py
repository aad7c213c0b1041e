"""The command line of the core."""
