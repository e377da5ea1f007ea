"""Amber Keel: matchmoving for the shots that would not solve."""

import os

__version__ = "0.1.0"

# Our own loops use the cores; a second set of BLAS threads spinning beside them more than doubles a solve's time.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
