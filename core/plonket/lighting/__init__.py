"""The light of the set, told from what the footage shows."""
