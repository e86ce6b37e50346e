"""Lines fitted to points: straight, exponential, polynomials and smoothed ones."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

Fit = Literal["linear", "exponential", "quadratic", "cubic", "smoothed"]
DEGREES = {"linear": 1, "quadratic": 2, "cubic": 3}
POINTS_OF_A_CURVE = 60
NOTHING = 1e-12
"""A share of the values below which a part of a line is rounding, not a slope."""
SMOOTHED_SHARE = 2 / 3
"""The share of the points that each point of a smoothed line goes by."""
MOST_EXACT, CLOSE_TOGETHER = 2_000, 0.01
"""Of more points than this, those that lie closer together than this share of the axis are not each worked out."""


@dataclass(frozen=True)
class FittedLine:
    """A fitted line: points along it, from the lowest x to the highest.

    With its equation and the share of variance it explains (none for a smoothed line, which has no equation), and the
    number of points it is fitted to."""

    xs: list[float]
    ys: list[float]
    equation: str
    r_squared: float | None
    count: int


def fit_line(x: Sequence[float], y: Sequence[float], fit: Fit) -> FittedLine | str:
    """The line by least squares through points, or why there is none.

    An exponential line is fitted to the logarithms of y, which must be positive; R² is that of the values themselves.
    A smoothed line is locally weighted regression (Cleveland 1979).
    """
    xs, ys = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
    degree = DEGREES.get(fit, 1)
    if len(np.unique(xs)) <= degree:
        return f"A fitted line of this kind needs at least {degree + 1} points apart from each other."
    along = np.linspace(xs.min(), xs.max(), POINTS_OF_A_CURVE)
    if fit == "smoothed":
        return _smooth(xs, ys)
    if fit == "exponential":
        if (ys <= 0).any():
            return "An exponential line needs values above zero."
        slope, start = np.polyfit(xs, np.log(ys), 1)
        slope = slope if abs(slope) * np.ptp(xs) > NOTHING else 0.0
        with np.errstate(over="ignore"):
            curve, at_points = np.exp(start + slope * along), np.exp(start + slope * xs)
        equation = f"y = {_write_number(math.exp(min(start, 700)))}" + (
            f" · e^({_write_number(slope)} x)" if slope else ""
        )
    else:
        # The powers are of x less its mean and over its spread, so that large x do no harm.
        line = np.polynomial.Polynomial.fit(xs, ys, degree if np.ptp(ys) else 0)
        curve, at_points = line(along), line(xs)
        equation = _write_polynomial(_clean_coefficients(line.convert().coef, xs, ys))
    if not (np.isfinite(curve).all() and np.isfinite(at_points).all()):
        return "The values are too large for a fitted line."
    return FittedLine(along.tolist(), curve.tolist(), equation, _compute_r_squared(ys, at_points), len(xs))


def _smooth(xs: np.ndarray, ys: np.ndarray) -> FittedLine | str:
    from statsmodels.nonparametric.smoothers_lowess import lowess  # takes two seconds to import

    # Between many points that lie close together the line is drawn straight, as Cleveland (1979) advises.
    near = CLOSE_TOGETHER * float(xs.max() - xs.min()) if len(xs) > MOST_EXACT else 0.0
    line = lowess(ys, xs, frac=SMOOTHED_SHARE, delta=near, return_sorted=True)
    if not np.isfinite(line).all():
        return "A smoothed line needs more points that lie apart from each other."
    return FittedLine(line[:, 0].tolist(), line[:, 1].tolist(), "", None, len(xs))


def _compute_r_squared(ys: np.ndarray, at_points: np.ndarray) -> float | None:
    """1 − residual over total sum of squares; None where all values are the same."""
    total = ((ys - ys.mean()) ** 2).sum()
    return float(1 - ((ys - at_points) ** 2).sum() / total) if total > 0 else None


def _write_number(value: float) -> str:
    """Four figures, written out unless that is long."""
    if value == 0 or not 1e-4 <= abs(value) < 1e9:
        return f"{value:.3g}".replace("-", "−")
    decimals = max(0, 3 - math.floor(math.log10(abs(value))))
    return f"{value:,.{decimals}f}".rstrip("0").rstrip(".").replace("-", "−") if decimals else f"{value:,.0f}"


def _clean_coefficients(coefficients: np.ndarray, xs: np.ndarray, ys: np.ndarray) -> np.ndarray:
    """The coefficients with nought for those that add next to nothing anywhere: a line of equal values has no slope."""
    adds = np.abs(coefficients) * np.abs(xs).max() ** np.arange(len(coefficients))
    return np.where(adds > NOTHING * max(np.abs(ys).max(), np.finfo(float).tiny), coefficients, 0.0)


def _write_polynomial(coefficients: np.ndarray) -> str:
    """ "y = 2 x² − 3 x + 1", the highest power first."""
    powers = ["", " x", " x²", " x³"]
    terms = [(value, powers[power]) for power, value in enumerate(coefficients) if value or not power][::-1]
    if len(terms) > 1 and not terms[-1][0]:
        terms.pop()
    said = ""
    for value, power in terms:
        sign = " − " if value < 0 else " + "
        said += f"{sign if said else '−' if value < 0 else ''}{_write_number(abs(value))}{power}"
    return f"y = {said}"
