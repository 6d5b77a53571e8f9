"""Curves and surfaces fitted to data: frame, parameters, least squares, fairness, budget."""
