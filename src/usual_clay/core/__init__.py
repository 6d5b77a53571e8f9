"""Geometry: arrays in, arrays out. Millimetres and radians, ``float64``."""
