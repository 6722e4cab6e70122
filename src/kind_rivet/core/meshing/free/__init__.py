"""Free quad-dominant meshing of flat regions with fixed borders.

`fill` is the way in: points placed by a front along a cross field in a constrained
Delaunay triangulation, joined into quads, cleaned up and smoothed.
"""
