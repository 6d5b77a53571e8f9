"""The least squares of a fit: systems, the sliding step, and knots where the error is."""
