"""How every kernel of the flow solver is compiled: once, cached on disk, race-free in parallel.

`reassoc` is left out of fastmath on purpose (it made the matrix-vector product slower), and so are `nnan` and `ninf`,
so that a test for a finite number still works inside a kernel.
"""

import numba

_FAST = {"contract", "arcp", "nsz"}

serial = numba.njit(cache=True, fastmath=_FAST, error_model="numpy")
inlined = numba.njit(cache=True, fastmath=_FAST, error_model="numpy", forceinline=True)  # into the caller's loop
# sums may be taken in any order: only for dot products over fixed chunks, which stay the same from run to run
chunked = numba.njit(cache=True, fastmath=_FAST | {"reassoc"}, error_model="numpy", parallel=True)
parallel = numba.njit(cache=True, fastmath=_FAST, error_model="numpy", parallel=True)
prange = numba.prange
