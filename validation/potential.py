"""Exact incompressible flow about conformally mapped airfoils (Joukowski, Karman-Trefftz), with Kutta's condition.

Source: Milne-Thomson (1968), Theoretical Hydrodynamics, ch. 7; Karman and Trefftz (1918), Z. Flugtech. 9:111.
"""

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class MappedAirfoil:
    """Circle of centre (-e, k) through (1, 0) mapped by z = n ((s+1)^n + (s-1)^n) / ((s+1)^n - (s-1)^n); n = 2 is
    Joukowski.
    """

    thickness: float = 0.1
    camber: float = 0.1
    tail_angle: float = 0.0  # degrees

    @property
    def power(self) -> float:
        """Exponent of the map."""
        return 2.0 - self.tail_angle / 180.0

    def _circle(self, theta: np.ndarray) -> np.ndarray:
        centre = complex(-self.thickness, self.camber)
        return centre + abs(1.0 - centre) * np.exp(1j * theta)

    def _map(self, s: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        n = self.power
        a, b = (s + 1.0) ** n, (s - 1.0) ** n
        with np.errstate(all="ignore"):
            z = n * (a + b) / (a - b)
            dz = 4.0 * n**2 * (s * s - 1.0) ** (n - 1.0) / (a - b) ** 2
        return z, dz

    def surface(self, count: int) -> tuple[np.ndarray, np.ndarray]:
        """Angles (count,) from the tail over the upper side, and points (count, 2) of unit chord."""
        beta = np.arcsin(self.camber / abs(1.0 - complex(-self.thickness, self.camber)))
        theta = -beta + np.linspace(0.0, 2.0 * np.pi, count)
        # the tail is theta = -beta; keep the branch of the powers continuous round the circle
        z = self._continuous(theta)[0]
        z[0] = z[-1] = self.power
        return theta, self._scaled(z)

    def _continuous(self, theta):
        s = self._circle(theta)
        n = self.power
        inner = slice(1, -1)
        minus = np.zeros(len(s), dtype=complex)
        plus = np.zeros(len(s), dtype=complex)
        for out, value in ((minus, s - 1.0), (plus, s + 1.0)):
            angle = np.unwrap(np.angle(value[inner]))
            if out is plus:
                angle -= 2 * np.pi * np.round(angle[0] / (2 * np.pi))
            out[inner] = np.abs(value[inner]) ** n * np.exp(1j * n * angle)
        z, dz = np.full(len(s), n, dtype=complex), np.zeros(len(s), dtype=complex)
        a, b = plus[inner], minus[inner]
        z[inner] = n * (a + b) / (a - b)
        dz[inner] = 4.0 * n**2 * (a * b / (s[inner] ** 2 - 1.0)) / (a - b) ** 2
        return z, dz

    @property
    def _frame(self) -> tuple[float, float]:
        theta = np.linspace(0.0, 2.0 * np.pi, 20001)
        z = self._continuous(theta)[0]
        return float(z[1:-1].real.min()), float(self.power - z[1:-1].real.min())

    def _scaled(self, z: np.ndarray) -> np.ndarray:
        low, chord = self._frame
        return np.stack([(z.real - low) / chord, z.imag / chord], axis=1)

    def flow(self, alpha: float, count: int) -> tuple[np.ndarray, np.ndarray, float]:
        """Points (count, 2), Cp (count,) and CL at `alpha` [deg]."""
        theta, points = self.surface(count)
        _, dz = self._continuous(theta)
        a = np.radians(alpha)
        centre = complex(-self.thickness, self.camber)
        radius = abs(1.0 - centre)
        beta = np.arcsin(self.camber / radius)
        gamma = 4.0 * np.pi * radius * np.sin(a + beta)
        e = np.exp(1j * theta)
        w = np.exp(-1j * a) - np.exp(1j * a) / e**2 + 1j * gamma / (2.0 * np.pi * radius * e)
        with np.errstate(all="ignore"):
            speed = np.abs(w / dz)
        cp = 1.0 - speed**2
        cp[[0, -1]] = cp[[1, -2]]
        return points, cp, 2.0 * gamma / self._frame[1]
