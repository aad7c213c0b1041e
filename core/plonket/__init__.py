"""Plonket's core: the computation behind tracked effect shots, without server or screens."""
