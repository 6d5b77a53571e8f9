"""Where measured points lie on a surface that is still to be fitted."""
