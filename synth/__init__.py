"""What Plonket makes up for itself: the simulated phone that films demo sets, and the shelf's own elements."""
