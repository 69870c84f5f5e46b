"""Lithon prepares solid geometry for finite-element meshing.

A script does what the window does:

    import lithon
    work = lithon.open("collar-anchor.step")
    work.take(lithon.do.clear("holes where diameter <= 2.6 mm"))
    work.take(lithon.do.carve("y = 0"))
    work.take(lithon.do.bond())
    mesh = lithon.tetrahedral_mesh(work.model, lithon.SizeRules(4.0))
    lithon.write_vtu(mesh, "collar-anchor.vtu")
"""

import os

import lazy_loader

# Equations here are small and many, and solved on several threads of our own: threads within each of them wait for one
# another up to twenty times as long as they work. It is looked at when NumPy comes in.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"

# What there is stands in the stub beside this file. The window's parts start faster for not importing all of it.
__getattr__, __dir__, __all__ = lazy_loader.attach_stub(__name__, __file__)
