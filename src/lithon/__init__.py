"""Lithon prepares solid geometry for finite-element meshing.

A script does what the window does:

    import lithon
    work = lithon.open("collar-anchor.step")
    work.take(lithon.clear_question("holes where diameter <= 2.6 mm"))
    work.take(lithon.split_step(lithon.plane_at((0, 0, 0), (0, 1, 0))))
    work.take(lithon.bond_step())
    mesh = lithon.tetrahedral_mesh(work.model, lithon.SizeRules(4.0))
    lithon.write_vtu(mesh, "collar-anchor.vtu")
"""

from lithon.errors import BadFile, Cancelled, LithonError, Refusal, Unresolved
from lithon.exchange.deliver import write_triangles
from lithon.exchange.intake import parse_model, read_model
from lithon.exchange.step_read import parse_step, read_step
from lithon.exchange.step_write import step_text, write_step
from lithon.exchange.vtu import write_vtu
from lithon.mesh.make import mesh
from lithon.mesh.mesh import Mesh
from lithon.mesh.second_order import quadratic
from lithon.mesh.sizing import SizeRules
from lithon.mesh.sweep import hexahedral_mesh
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.project.files import load_project, save_project
from lithon.project.ledger import Ledger, load_recipe, run_recipe
from lithon.project.questions import ask
from lithon.project.steps import (
    bond_step,
    clear_question,
    clear_step,
    combine_step,
    face_extended,
    keep_step,
    plane_at,
    plane_midway,
    plane_offset,
    plane_through,
    split_step,
)
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.survey.forecast import forecast
from lithon.survey.report import survey

__version__ = "0.1.0"

open = Ledger.open

__all__ = [
    "BadFile", "Cancelled", "Ledger", "LithonError", "Mesh", "Refusal", "SizeRules", "Unresolved", "ask", "bond_step",
    "clear_question", "clear_step", "combine_step", "face_extended", "features", "findings", "forecast",
    "hexahedral_mesh", "keep_step", "load_project", "load_recipe", "mesh", "open", "parse_model", "parse_step",
    "plane_at", "plane_midway", "plane_offset", "plane_through", "quadratic", "read_model", "read_step", "run_recipe",
    "save_project", "split_step", "step_text", "survey", "tetrahedral_mesh", "write_step", "write_triangles",
    "write_vtu",
]  # fmt: skip
