"""How helpers of compiled kernels are compiled.

A helper that takes arrays (or tuples of arrays) counts a reference for every array it touches, by an atomic write that two threads
of a parallel loop fight over: measured here, two threads were then no faster than one. A helper that makes no array of its own can
be compiled without reference counts (numba's `_nrt` option; its arguments are kept alive by the kernel that calls it). For the same
reason kernels hand on whole arrays and a row number instead of a view of the row. Helpers are inlined, since a call would copy the
tuples of arrays it takes word by word: shading became four times faster. Division by zero gives infinity, as in NumPy, instead of a
branch at each division.
"""

from numba import njit

helper = njit(cache=True, forceinline=True, _nrt=False, error_model="numpy")
# For light and colour, where the order of a sum does not matter; never for depth or coverage, which must fall as on hardware.
light_helper = njit(
    cache=True, forceinline=True, _nrt=False, error_model="numpy", fastmath={"contract", "reassoc", "nsz", "arcp"}
)
