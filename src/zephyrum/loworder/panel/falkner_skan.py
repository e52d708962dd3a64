"""Laminar closure from the similar boundary layers of Falkner and Skan (1931), attached and with reversed flow.

A laminar layer is taken as the similar one of the same shape factor H. Its energy shape factor H*, friction and
dissipation are then functions of H alone; on flows of Falkner and Skan they are exact. The reversed branch is that of
Stewartson (1954). Verified by tests/test_boundary_layer.py, which solves the equation again.
"""

import functools

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.optimize import brentq

# m of u = x^m, H, H*, Re_theta Cf / 2, Re_theta 2 CD / H*, by collocation to 1e-8
SIMILAR = (
    (1.3100137, 2.203492, 1.6281137, 0.3662438, 0.2583482),
    (1.0000006, 2.216229, 1.6257468, 0.3603391, 0.2563943),
    (0.7823079, 2.230132, 1.6232130, 0.3539966, 0.2543317),
    (0.6343657, 2.243880, 1.6207575, 0.3478274, 0.2523620),
    (0.5003597, 2.261586, 1.6176671, 0.3400295, 0.2499249),
    (0.3802459, 2.284823, 1.6137307, 0.3300392, 0.2468898),
    (0.2739606, 2.315978, 1.6086590, 0.3170644, 0.2430978),
    (0.1814113, 2.358761, 1.6020601, 0.2999942, 0.2383729),
    (0.1024673, 2.419136, 1.5934209, 0.2772899, 0.2325662),
    (0.0680441, 2.458804, 1.5881435, 0.2632012, 0.2292435),
    (0.0369534, 2.507089, 1.5821161, 0.2468849, 0.2256690),
    (0.0144625, 2.553557, 1.5767002, 0.2319983, 0.2226671),
    (-0.0000002, 2.591101, 1.5725830, 0.2205240, 0.2205241),
    (-0.0153321, 2.640370, 1.5675093, 0.2061763, 0.2180553),
    (-0.0325787, 2.713168, 1.5606487, 0.1863591, 0.2150331),
    (-0.0477309, 2.801892, 1.5532213, 0.1642533, 0.2121947),
    (-0.0607712, 2.911573, 1.5453025, 0.1397132, 0.2097004),
    (-0.0716552, 3.049670, 1.5370628, 0.1126486, 0.2077371),
    (-0.0802921, 3.227897, 1.5288460, 0.0830653, 0.2064916),
    (-0.0851940, 3.399340, 1.5230901, 0.0593181, 0.2061026),
    (-0.0886059, 3.618268, 1.5182550, 0.0344150, 0.2061478),
    (-0.0899488, 3.801959, 1.5160013, 0.0173195, 0.2063212),
    (-0.0904286, 4.029226, 1.5150861, 0.0000000, 0.2064365),
    (-0.0898792, 4.320154, 1.5163805, -0.0173080, 0.2061789),
    (-0.0880158, 4.712007, 1.5215389, -0.0342213, 0.2049133),
    (-0.0842750, 5.286628, 1.5342657, -0.0500396, 0.2012296),
    (-0.0771695, 6.293316, 1.5660142, -0.0631126, 0.1911167),
    (-0.0745000, 6.687521, 1.5805709, -0.0653451, 0.1864323),
    (-0.0700000, 7.396542, 1.6086945, -0.0670771, 0.1775857),
    (-0.0650000, 8.274316, 1.6458817, -0.0667656, 0.1665064),
    (-0.0600000, 9.279714, 1.6904418, -0.0647047, 0.1542868),
    (-0.0550000, 10.454750, 1.7439755, -0.0613120, 0.1411049),
    (-0.0500000, 11.855960, 1.8087178, -0.0568911, 0.1271420),
    (-0.0450000, 13.563769, 1.8878535, -0.0516795, 0.1125870),
    (-0.0400000, 15.698287, 1.9860607, -0.0458746, 0.0976412),
    (-0.0350000, 18.448420, 2.1104975, -0.0396497, 0.0825223),
    (-0.0300000, 22.130181, 2.2727145, -0.0331648, 0.0674709),
    (-0.0250000, 27.315491, 2.4927126, -0.0265771, 0.0527593),
    (-0.0200000, 35.155921, 2.8086452, -0.0200513, 0.0387059),
)


_TABLE = np.array(SIMILAR)
LAMINAR_NODES = np.log(_TABLE[:, 1])  # ln H
# energy H*, friction Re_theta Cf / 2 and dissipation Re_theta 2 CD / H*: cubic splines over ln H, (3, 4, n - 1)
LAMINAR_SPLINES = np.stack([CubicSpline(LAMINAR_NODES, _TABLE[:, k]).c for k in (2, 3, 4)])
SHAPE_AT_STAGNATION = float(_TABLE[1, 1])  # H of u = x, and Re_theta Cf / 2
FRICTION_AT_STAGNATION = float(_TABLE[1, 3])


@functools.cache
def similar_shape_factor(m: float) -> float:
    """Shape factor H of the attached similar layer of u = x^m.

    Parameters
    ----------
    m : float
        Exponent, from -0.0904 to 1.3.

    Examples
    --------
    >>> round(similar_shape_factor(0.0), 4)
    2.5911
    """
    rising = slice(0, int(np.argmin(_TABLE[:, 0])) + 1)
    spline = CubicSpline(LAMINAR_NODES, _TABLE[:, 0])
    low, high = LAMINAR_NODES[rising][[0, -1]]
    return float(np.exp(brentq(lambda x: float(spline(x)) - m, low, high, xtol=1e-14)))
