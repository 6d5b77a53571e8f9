"""The demo job: a fictional wooden fishing lure, made from an exact shape."""
