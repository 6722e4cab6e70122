"""Imports that every worker shares; the forkserver loads them once."""

import contextlib
import os

import numba  # noqa: F401
import numpy  # noqa: F401
import scipy.sparse.csgraph
import scipy.sparse.linalg
import scipy.spatial  # noqa: F401

import kind_rivet.core.files.deliver
import kind_rivet.core.geometry.kernel.read  # noqa: F401
from kind_rivet.core.operations import all_operations

os.nice(5)  # the window comes first, at start-up and while a worker works
all_operations()
with contextlib.suppress(ImportError):
    import OCP.BRepMesh
    import OCP.STEPCAFControl
    import OCP.XCAFDoc  # noqa: F401
