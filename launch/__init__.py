"""Sets up and runs Plonket on this machine. Standard library only: it runs before anything is installed."""
