"""What a shot is delivered as: one file per kind."""
