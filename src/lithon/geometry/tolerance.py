"""The one place where lengths and angles are compared.

All lengths are millimetres and all angles radians.
"""

from __future__ import annotations

import numpy as np

#: Two directions closer than this are parallel.
ANGULAR = 1e-9
#: An edge whose faces turn by less than this is smooth (a fillet's run-out, not a corner).
SMOOTH = np.radians(0.5)
#: In a sound body, what meets may miss by so many resolutions.
MISS = 10.0
#: Resolution relative to the diagonal of the model, and the bounds it is kept within.
RELATIVE = 1e-7
COARSEST = 1e-3
FINEST = 1e-9


def resolution(diagonal: float) -> float:
    """The length below which two points of a model of this diagonal are one point."""
    return float(np.clip(RELATIVE * diagonal, FINEST, COARSEST))
