"""Reference pictures: placed on planes to scale, squared up, outlined, compared."""
