"""3D things filmed by a path tracer in a process of its own."""
