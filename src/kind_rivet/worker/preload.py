"""Imports that every worker shares; the forkserver loads them once."""

import contextlib

import numpy  # noqa: F401
import scipy.sparse.csgraph
import scipy.sparse.linalg
import scipy.spatial  # noqa: F401

import kind_rivet.core.files.deliver
import kind_rivet.core.geometry.cad  # noqa: F401
from kind_rivet.core.operations import all_operations

all_operations()
with contextlib.suppress(ImportError):
    import OCP.BRepMesh
    import OCP.STEPCAFControl
    import OCP.XCAFDoc  # noqa: F401
