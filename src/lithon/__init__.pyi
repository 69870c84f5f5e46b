# What `import lithon` offers; each name is imported when it is first used.

from . import do as do
from .errors import BadFile as BadFile
from .errors import Cancelled as Cancelled
from .errors import Fault as Fault
from .errors import LithonError as LithonError
from .errors import Refusal as Refusal
from .errors import Unresolved as Unresolved
from .exchange.deliver import write_triangles as write_triangles
from .exchange.intake import parse_model as parse_model
from .exchange.intake import read_model as read_model
from .exchange.step_read import parse_step as parse_step
from .exchange.step_read import read_step as read_step
from .exchange.step_write import step_text as step_text
from .exchange.step_write import write_step as write_step
from .exchange.vtu import write_vtu as write_vtu
from .mesh.compare import compared as compared
from .mesh.hexahedra import hexahedral_mesh as hexahedral_mesh
from .mesh.make import mesh_of as mesh_of
from .mesh.mesh import Mesh as Mesh
from .mesh.patch_test import PatchTest as PatchTest
from .mesh.patch_test import patch_test as patch_test
from .mesh.second_order import quadratic as quadratic
from .mesh.sizing import SizeRules as SizeRules
from .mesh.tetrahedra import tetrahedral_mesh as tetrahedral_mesh
from .operations.questions import ask as ask
from .operations.recorded import from_text as from_text
from .operations.running import run as run
from .operations.state import Settings as Settings
from .operations.state import State as State
from .project.files import load_project as load_project
from .project.files import save_project as save_project
from .project.ledger import Ledger as Ledger
from .project.ledger import load_recipe as load_recipe
from .project.ledger import run_recipe as run_recipe
from .project.opening import open as open
from .survey.features import features as features
from .survey.findings import findings as findings
from .survey.forecast import forecast as forecast
from .survey.report import survey_of as survey_of

__version__: str
