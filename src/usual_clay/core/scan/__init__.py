"""Triangle meshes: neighbours, normals, bend, regions, nearest points."""
