"""How often the interpreter looks for rubbish."""

import gc

#: A model is hundreds of thousands of objects that all stay: the usual rhythm looks through them at every step, for a
#: third of the time of long work, and finds nothing.
_RHYTHM = (50_000, 20, 50)


def look_seldom() -> None:
    """For processes that are Lithon's own."""
    gc.set_threshold(*_RHYTHM)
