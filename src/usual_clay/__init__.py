"""Usual Clay: lean NURBS from pictures, points and scans."""

__version__ = "0.1.0"
