"""Open formats: files that leave Plonket and come back."""
