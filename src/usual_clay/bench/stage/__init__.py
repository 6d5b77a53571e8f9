"""The stage: the only home of VTK. Scene, cameras, picking, overlays."""
