"""How fast Plonket is, against plain library calls in the same run."""
