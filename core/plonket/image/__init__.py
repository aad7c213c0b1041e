"""Pictures: windowed premultiplied light, placing, blending, membranes."""
