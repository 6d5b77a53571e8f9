"""The fewest control points for a tolerance, and the front round it."""
