"""Projects as one file, and back."""
