"""Generated elements: made as the shot runs, seeded, with alpha, in real light."""
