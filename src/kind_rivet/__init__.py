"""Kind Rivet: midsurfaces, shell meshes and sets for thin-walled parts."""

__version__ = "0.1.0"
