"""Bodies: made, cut, rounded, hollowed, checked and set afloat."""
