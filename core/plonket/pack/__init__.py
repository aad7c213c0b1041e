"""Projects as one file: written, checked and read back."""
