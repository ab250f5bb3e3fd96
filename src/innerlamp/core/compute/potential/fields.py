"""What a sensor measures of a unit of rock: the total magnetic field, vertical gravity, and gradients of gravity.

All but gravity itself are second derivatives of 1/r contracted with a constant symmetric tensor, so that one closed
form serves them (Blakely 1995, Potential Theory in Gravity and Magnetic Applications, chapters 3 and 5).

Frame: east, north, up, metres.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ...geometry.mesh import Mesh

FloatArray = NDArray[np.float64]
GRAVITATION = 6.67430e-11  # CODATA 2018, m3 kg-1 s-2
_MGAL, _EOTVOS = 1e5, 1e9
Component = Literal["xx", "xy", "xz", "yy", "yz", "zz"]
COMPONENTS: tuple[Component, ...] = ("xx", "xy", "xz", "yy", "yz", "zz")


def field_direction(inclination: float, declination: float) -> FloatArray:
    """Return the unit vector (east, north, up) of a field; degrees, inclination positive down."""
    i, d = np.radians(inclination), np.radians(declination)
    return np.array([np.cos(i) * np.sin(d), np.cos(i) * np.cos(d), -np.sin(i)])


@dataclass(frozen=True, eq=False)
class FieldKernel:
    """The measured effect of one cubic metre with a property of 1.

    Attributes
    ----------
    tensor
        Symmetric (3, 3): the effect is ``scale`` times the sum of its products with the second derivatives of 1/r.
        None is the downward attraction.
    scale
        Factor that makes it the unit.
    unit
        Of what is measured.
    """

    tensor: FloatArray | None
    scale: float
    unit: str

    @property
    def is_gravity(self) -> bool:
        """Whether it is the downward attraction, which falls off as 1/r²."""
        return self.tensor is None

    def along(self, mesh: Mesh) -> FieldKernel:
        """Return the same in the frame of a mesh that may be turned."""
        if self.tensor is None or not mesh.is_turned:
            return self
        turn = np.eye(3)
        turn[:2, :2] = np.stack(mesh.axes)
        return FieldKernel(turn @ self.tensor @ turn.T, self.scale, self.unit)

    @property
    def coefficients(self) -> FloatArray:
        """Factors (6,) of the second derivatives xx, yy, zz, xy, xz, yz; zeros for gravity."""
        if self.tensor is None:
            return np.zeros(6)
        t = self.tensor
        return np.array([t[0, 0], t[1, 1], t[2, 2], 2 * t[0, 1], 2 * t[0, 2], 2 * t[1, 2]])


def total_field(
    inclination: float, declination: float, intensity: float, magnetisation: tuple[float, float] | None = None
) -> FieldKernel:
    """Return the total-field anomaly in nT of susceptibility (SI).

    Parameters
    ----------
    inclination, declination
        Of the main field, degrees; inclination positive down, declination clockwise from grid north.
    intensity
        Of the main field in nT.
    magnetisation
        Inclination and declination of the magnetisation where it is not induced.
    """
    f = field_direction(inclination, declination)
    m = f if magnetisation is None else field_direction(*magnetisation)
    # B = mu0/(4 pi) M T, and mu0 M = k B0, hence 1/(4 pi) of the main field.
    return FieldKernel(_symmetric(m, f), intensity / (4.0 * np.pi), "nT")


def magnetisation_fields(
    inclination: float, declination: float, intensity: float
) -> tuple[FieldKernel, FieldKernel, FieldKernel]:
    """Return the total-field anomaly in nT of the three components (east, north, up) of a magnetisation.

    The magnetisation is in units of the main field's strength: induced alone it is the susceptibility along the field.
    """
    f = field_direction(inclination, declination)
    east, north, up = (FieldKernel(_symmetric(axis, f), intensity / (4.0 * np.pi), "nT") for axis in np.eye(3))
    return east, north, up


def vertical_gravity() -> FieldKernel:
    """Return the downward attraction in mGal of density in kg/m³."""
    return FieldKernel(None, GRAVITATION * _MGAL, "mGal")


def gravity_gradient(component: Component) -> FieldKernel:
    """Return one component of the gravity gradient in E (1e-9 s⁻²) of density in kg/m³.

    Axes are x east, y north, z down, so that zz is positive over dense rock.
    """
    axes = {"x": np.array([1.0, 0.0, 0.0]), "y": np.array([0.0, 1.0, 0.0]), "z": np.array([0.0, 0.0, -1.0])}
    return FieldKernel(_symmetric(axes[component[0]], axes[component[1]]), GRAVITATION * _EOTVOS, "E")


def _symmetric(m: FloatArray, f: FloatArray) -> FloatArray:
    return 0.5 * (np.outer(m, f) + np.outer(f, m))
