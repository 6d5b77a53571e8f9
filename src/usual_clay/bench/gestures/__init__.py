"""Gestures: one file each, written as a generator that reads as the gesture happens."""
