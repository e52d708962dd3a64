"""Vectors of three components in kernels: arrays or tuples.

Tuples are preferred: an expression of arrays takes seconds to compile. Verified by tests/test_triangles.py.
"""

from zephyrum._core.jit import exact


@exact
def difference(a: tuple, b: tuple):
    """Difference (3) of two vectors.

    Parameters
    ----------
    a, b : (3,) vectors

    Examples
    --------
    >>> difference((1.0, 2.0, 3.0), (1.0, 0.0, 1.0))
    (0.0, 2.0, 2.0)
    """
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]


@exact
def cross_product(a: tuple, b: tuple):
    """Vector product (3) of two vectors.

    Parameters
    ----------
    a, b : (3,) vectors

    Examples
    --------
    >>> cross_product((1.0, 0.0, 0.0), (0.0, 1.0, 0.0))
    (0.0, 0.0, 1.0)
    """
    return a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]


@exact
def dot(a: tuple, b: tuple):
    """Scalar product of two vectors.

    Parameters
    ----------
    a, b : (3,) vectors

    Examples
    --------
    >>> dot((1.0, 2.0, 3.0), (1.0, 0.0, 1.0))
    4.0
    """
    return a[0] * b[0] + a[1] * b[1] + a[2] * b[2]
