"""How inner loops are compiled: which liberties the compiler may take with arithmetic.

It may reorder sums, multiply by reciprocals and fuse products with sums, which makes loops vector code. It may not
assume that no value is infinite or NaN: loops here mark with both what is not known (LLVM's manual, fast-math flags).
"""

FAST = {"reassoc", "contract", "arcp", "nsz"}
"""What ``njit`` is given as ``fastmath``."""
