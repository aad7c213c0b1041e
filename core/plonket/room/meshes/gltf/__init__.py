"""Models in glTF 2.0 (Khronos): its container, materials, nodes and movements."""
