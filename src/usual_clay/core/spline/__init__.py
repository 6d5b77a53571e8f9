"""B-spline curves and surfaces: evaluate, derive, insert, remove, split, find the nearest point."""
