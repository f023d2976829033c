"""The Sketch stage: drawing, constraints, dimensions."""
