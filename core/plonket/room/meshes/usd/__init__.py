"""Models in OpenUSD: opened safely, made into a GLB, written."""
