"""The 3D set: models lit, shadowed and filmed by a path tracer in a process of its own."""
