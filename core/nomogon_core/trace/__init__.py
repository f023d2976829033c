"""From linear light to outlines, and from outlines to the fewest lines, arcs, circles and splines."""
