"""Geometry as arrays. Only `cad` imports the CAD kernel."""
