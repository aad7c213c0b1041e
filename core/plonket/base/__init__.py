"""What everything else stands on: conventions, errors, progress, numbers, colour, outlines, caches."""
