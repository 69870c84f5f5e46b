# Made from the table of operations: ./run docs
from collections.abc import Iterable, Sequence
from typing import Literal

from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.operations.choices import Choice
from lithon.operations.operation import Operation
from lithon.operations.places import Axis as Axis
from lithon.operations.places import Cut as Cut
from lithon.operations.places import Spot as Spot

class mend_safe(Operation):  # noqa: N801
    """Take every cure that moves nothing by more than a limit: sew, drop, turn, merge, replace, close."""

    def __init__(
        self,
        limit: float | str | None = ...,
    ) -> None: ...

class clean_triangles(Operation):  # noqa: N801
    """Weld, drop what has no area or stands twice, turn, fill holes, drop islands and fragments, part what crosses."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        weld: float | str | None = ...,
    ) -> None: ...

class take_out_needles(Operation):  # noqa: N801
    """Take triangles out that are far lower than long: sides swapped, short ones drawn together."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        faces: str | Face | Iterable[Face] | Choice | None = ...,
        height: float | str | None = ...,
    ) -> None: ...

class find_patches(Operation):  # noqa: N801
    """Part triangles into patches that lie on one simple surface each, to be put right before a solid is made."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        tolerance: float | str | None = ...,
        free: bool = ...,
    ) -> None: ...

class unite_patches(Operation):  # noqa: N801
    """Make one patch of several that touch: they will be one face of the solid."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class part_patch(Operation):  # noqa: N801
    """Part a patch in two where a plane passes or a line is drawn, or into what a bend divides."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        cut: Cut | str | None = ...,
        line: str = ...,
    ) -> None: ...

class grow_patch(Operation):  # noqa: N801
    """Let a patch take from those beside it the triangles that lie on its surface."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        tolerance: float | str,
    ) -> None: ...

class paint_patch(Operation):  # noqa: N801
    """Give the triangles under a line that is drawn over them to a patch, or make one of them."""

    def __init__(
        self,
        line: str,
        width: float | str,
        faces: str | Face | Iterable[Face] | Choice | None = ...,
    ) -> None: ...

class say_kind(Operation):  # noqa: N801
    """Say of what kind of surface a patch is, where the program takes it for another."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        kind: Literal["plane", "cylinder", "cone", "sphere", "torus", "pipe", "free"] = ...,
    ) -> None: ...

class solid(Operation):  # noqa: N801
    """Make exact solids of triangles; smooth: free-form where nothing simple fits; what is neither stays facets."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        kind: Literal["simple", "smooth", "facets"] = ...,
        tolerance: float | str | None = ...,
        left: float | str | None = ...,
    ) -> None: ...

class cover(Operation):  # noqa: N801
    """Put a convex hull, or the smallest block or cylinder, in the place of bodies: one each, or one for all."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        by: Literal["hull", "block", "cylinder"] = ...,
        together: bool = ...,
    ) -> None: ...

class drop(Operation):  # noqa: N801
    """Drop loose sheets and hollows: all that hangs together with the chosen faces."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class drop_bodies(Operation):  # noqa: N801
    """Drop whole bodies."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
    ) -> None: ...

class turn_outwards(Operation):  # noqa: N801
    """Turn faces so that the skin of each body looks outwards all over; no point moves."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
    ) -> None: ...

class merge(Operation):  # noqa: N801
    """Join faces over the edges between them, where one surface goes on there; no point moves."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class close(Operation):  # noqa: N801
    """Make the face that is missing between the chosen ones, which are all around the opening."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class patch_over(Operation):  # noqa: N801
    """Put one clean face between edges that close a loop; what hangs between them goes, the solid behind is filled."""

    def __init__(
        self,
        edges: str | Edge | Iterable[Edge] | Choice,
        tangent: str | Edge | Iterable[Edge] | Choice | None = ...,
        curved: str | Edge | Iterable[Edge] | Choice | None = ...,
        instead: str | Face | Iterable[Face] | Choice | None = ...,
    ) -> None: ...

class sew(Operation):  # noqa: N801
    """Make one edge of two along the gap between the chosen faces."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class replace(Operation):  # noqa: N801
    """Put free-form faces on the plane, cylinder, cone or sphere that they are."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class clear(Operation):  # noqa: N801
    """Remove faces and let their neighbours close up."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        solution: int = ...,
        but: str | Face | Iterable[Face] | Choice | None = ...,
        partly: bool = ...,
        reference: bool = ...,
    ) -> None: ...

class reopen(Operation):  # noqa: N801
    """Open a hole again along round faces that were kept for reference, or that another body has."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        body: str | Body | Iterable[Body] | Choice | Sequence[str],
        through: bool = ...,
    ) -> None: ...

class keep(Operation):  # noqa: N801
    """Hold faces: they are not to be touched, and cards about them are put away."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        reason: str = ...,
    ) -> None: ...

class slide(Operation):  # noqa: N801
    """Move or tilt faces; their neighbours and the rounds beside them follow."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        by: float | str | None = ...,
        way: Axis | str | None = ...,
        about: Axis | str | None = ...,
        tilt: float | str | None = ...,
    ) -> None: ...

class offset(Operation):  # noqa: N801
    """Offset faces along their normals: material grows by a positive distance, and goes by a negative one."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        by: float | str,
    ) -> None: ...

class run_to(Operation):  # noqa: N801
    """Run a plane face up to the surface of another one: what lies between is filled, or goes."""

    def __init__(
        self,
        face: str | Face | Iterable[Face] | Choice,
        target: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class reface(Operation):  # noqa: N801
    """Put faces on the surface of another one, extended."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        target: str | Face | Iterable[Face] | Choice,
    ) -> None: ...

class resize(Operation):  # noqa: N801
    """Give rounds, holes and bosses another radius."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        radius: float | str,
    ) -> None: ...

class skim(Operation):  # noqa: N801
    """Swallow little steps, undercuts and splinters under a clean surface: one face on it takes their place."""

    def __init__(
        self,
        surface: str | Face | Iterable[Face] | Choice,
        depth: float | str,
        raised: float | str | None = ...,
        only: str | Face | Iterable[Face] | Choice | None = ...,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
    ) -> None: ...

class round(Operation):  # noqa: N801
    """Round edges, inner and outer ones, with a radius."""

    def __init__(
        self,
        edges: str | Edge | Iterable[Edge] | Choice,
        radius: float | str,
    ) -> None: ...

class bevel(Operation):  # noqa: N801
    """Bevel edges, inner and outer ones: a flat that stands back from each by the same on both faces."""

    def __init__(
        self,
        edges: str | Edge | Iterable[Edge] | Choice,
        setback: float | str,
    ) -> None: ...

class unite(Operation):  # noqa: N801
    """Make one body of two."""

    def __init__(
        self,
        body: str | Body | Iterable[Body] | Choice | Sequence[str],
        tool: str | Body | Iterable[Body] | Choice | Sequence[str],
    ) -> None: ...

class subtract(Operation):  # noqa: N801
    """Take from one body what another fills."""

    def __init__(
        self,
        body: str | Body | Iterable[Body] | Choice | Sequence[str],
        tool: str | Body | Iterable[Body] | Choice | Sequence[str],
    ) -> None: ...

class intersect(Operation):  # noqa: N801
    """Leave of one body what another fills as well."""

    def __init__(
        self,
        body: str | Body | Iterable[Body] | Choice | Sequence[str],
        tool: str | Body | Iterable[Body] | Choice | Sequence[str],
    ) -> None: ...

class part(Operation):  # noqa: N801
    """Part two bodies that overlap: one gives up what both fill, by default the larger."""

    def __init__(
        self,
        first: str | Body | Iterable[Body] | Choice | Sequence[str],
        second: str | Body | Iterable[Body] | Choice | Sequence[str],
        solution: int = ...,
    ) -> None: ...

class cure(Operation):  # noqa: N801
    """Take every cure that moves nothing by more than a limit, worst first; what is rather kept stays."""

    def __init__(
        self,
        limit: float | str | None = ...,
    ) -> None: ...

class mirror(Operation):  # noqa: N801
    """Make the mirror images of bodies in a plane."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        plane: Cut | str,
        beside: bool = ...,
    ) -> None: ...

class move(Operation):  # noqa: N801
    """Move bodies along a direction, or from one point to another."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        by: float | str | None = ...,
        way: Axis | str | None = ...,
        start: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        end: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        stay: bool = ...,
    ) -> None: ...

class turn(Operation):  # noqa: N801
    """Turn bodies about an axis, or place copies around it."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        about: Axis | str,
        by: float | str,
        copies: int = ...,
    ) -> None: ...

class bridge(Operation):  # noqa: N801
    """Loft a solid between two plane faces, and make one body of it and what it joins."""

    def __init__(
        self,
        first: str | Face | Iterable[Face] | Choice,
        second: str | Face | Iterable[Face] | Choice,
        join: bool = ...,
    ) -> None: ...

class block(Operation):  # noqa: N801
    """Add a block."""

    def __init__(
        self,
        x: float | str,
        y: float | str,
        z: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        way: Axis | str | None = ...,
        along: Axis | str | None = ...,
        called: str = ...,
    ) -> None: ...

class cylinder(Operation):  # noqa: N801
    """Add a cylinder."""

    def __init__(
        self,
        radius: float | str,
        height: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        way: Axis | str | None = ...,
        called: str = ...,
    ) -> None: ...

class cone(Operation):  # noqa: N801
    """Add a cone, or a frustum."""

    def __init__(
        self,
        radius: float | str,
        height: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        way: Axis | str | None = ...,
        top: float | str | None = ...,
        called: str = ...,
    ) -> None: ...

class sphere(Operation):  # noqa: N801
    """Add a sphere."""

    def __init__(
        self,
        radius: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        called: str = ...,
    ) -> None: ...

class wedge(Operation):  # noqa: N801
    """Add a wedge: a block whose top is shorter along x, down to an edge."""

    def __init__(
        self,
        x: float | str,
        y: float | str,
        z: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        top: float | str | None = ...,
        way: Axis | str | None = ...,
        along: Axis | str | None = ...,
        called: str = ...,
    ) -> None: ...

class ring(Operation):  # noqa: N801
    """Add a ring of round section."""

    def __init__(
        self,
        radius: float | str,
        section: float | str,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face | None = ...,
        way: Axis | str | None = ...,
        called: str = ...,
    ) -> None: ...

class reference_plane(Operation):  # noqa: N801
    """Draw a plane that others can be asked for: midway, off a face, through points, turned about an edge."""

    def __init__(
        self,
        plane: Cut | str,
        called: str = ...,
    ) -> None: ...

class reference_axis(Operation):  # noqa: N801
    """Draw an axis that others can be asked for: of a round face, along an edge, where two planes meet."""

    def __init__(
        self,
        axis: Axis | str,
        called: str = ...,
    ) -> None: ...

class reference_point(Operation):  # noqa: N801
    """Mark a point that others can be asked for."""

    def __init__(
        self,
        at: Spot | str | Sequence[float] | Vertex | Edge | Face,
        called: str = ...,
    ) -> None: ...

class drop_reference(Operation):  # noqa: N801
    """Take a named plane, axis or point away."""

    def __init__(
        self,
        called: str,
    ) -> None: ...

class carve(Operation):  # noqa: N801
    """Cut bodies at a plane, or at the surface of a face, extended."""

    def __init__(
        self,
        cut: Cut | str,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
    ) -> None: ...

class score(Operation):  # noqa: N801
    """Part faces where a plane, a cylinder about an axis or edge, or a face's surface passes; the solid stays one."""

    def __init__(
        self,
        cut: Cut | str,
        faces: str | Face | Iterable[Face] | Choice | None = ...,
    ) -> None: ...

class slice(Operation):  # noqa: N801
    """Make a plane model: the section of solids as regions named as they are, which share their edges."""

    def __init__(
        self,
        plane: Cut | str,
        about: Axis | str | None = ...,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        keep: bool = ...,
    ) -> None: ...

class mid_surface(Operation):  # noqa: N801
    """Make sheets midway between the two sides of walls, each with the wall's thickness; they share their edges."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        sides: str | Face | Iterable[Face] | Choice | None = ...,
        most: float | str | None = ...,
        keep: bool = ...,
    ) -> None: ...

class sheet(Operation):  # noqa: N801
    """Say that bodies are sheets: their free edges are meant, and they carry triangles or quads."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        thickness: float | str | None = ...,
    ) -> None: ...

class halve(Operation):  # noqa: N801
    """Leave a half, quarter or eighth between mirror planes; their cut faces say what vanishes there."""

    def __init__(
        self,
        part: Literal["half", "quarter", "eighth"] = ...,
        plane: Cut | str | None = ...,
        other: bool = ...,
    ) -> None: ...

class sector(Operation):  # noqa: N801
    """Leave one of the like parts about an axis, its two cut faces matched."""

    def __init__(
        self,
        start: float | str | None = ...,
    ) -> None: ...

class bond(Operation):  # noqa: N801
    """Imprint bodies that touch on each other and share what coincides, so that their meshes match."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        apart: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
        gap: float | str | None = ...,
    ) -> None: ...

class part_all(Operation):  # noqa: N801
    """Divide every body by every other: what two of them fill becomes a body of its own."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str] | None = ...,
    ) -> None: ...

class crumbs(Operation):  # noqa: N801
    """Absorb bodies far smaller than the rest, each into the neighbour that it shares most area with."""

    def __init__(
        self,
        below: float | str | None = ...,
        loose: Literal["leave", "drop"] = ...,
    ) -> None: ...

class set_aside(Operation):  # noqa: N801
    """Take bodies out of the model; what they touched on the others becomes a named face."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        labels: bool = ...,
    ) -> None: ...

class name(Operation):  # noqa: N801
    """Give faces a name, under which they arrive in the mesh as a set."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        label: str,
    ) -> None: ...

class size_on_faces(Operation):  # noqa: N801
    """Set the element size on faces."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice,
        size: float | str,
    ) -> None: ...

class size_on_edges(Operation):  # noqa: N801
    """Set the element size along edges."""

    def __init__(
        self,
        edges: str | Edge | Iterable[Edge] | Choice,
        size: float | str,
    ) -> None: ...

class size_in_bodies(Operation):  # noqa: N801
    """Set the element size in bodies."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        size: float | str,
    ) -> None: ...

class group(Operation):  # noqa: N801
    """Put bodies in a group: meshes are joined within it, and have the same nodes twice where it meets others."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        called: str = ...,
    ) -> None: ...

class material(Operation):  # noqa: N801
    """Say what bodies are made of, by name: their elements arrive in the mesh as a set of that name."""

    def __init__(
        self,
        bodies: str | Body | Iterable[Body] | Choice | Sequence[str],
        called: str,
    ) -> None: ...

class divide(Operation):  # noqa: N801
    """Set how many elements there are along edges."""

    def __init__(
        self,
        edges: str | Edge | Iterable[Edge] | Choice,
        count: int,
    ) -> None: ...

class element_size(Operation):  # noqa: N801
    """Set the element size, for everything that has none of its own."""

    def __init__(
        self,
        size: float | str,
    ) -> None: ...

class ignore_below(Operation):  # noqa: N801
    """Set a size below which the mesh follows no face, edge or corner. Nothing is done to the solid."""

    def __init__(
        self,
        size: float | str,
    ) -> None: ...

class drape(Operation):  # noqa: N801
    """Mesh faces as one, or go over edges, short ones drawn together. Names, holds and shared borders keep outlines."""

    def __init__(
        self,
        faces: str | Face | Iterable[Face] | Choice | None = ...,
        strength: float | str | None = ...,
        edges: str | Edge | Iterable[Edge] | Choice | None = ...,
        off: bool = ...,
    ) -> None: ...

class growth(Operation):  # noqa: N801
    """Set how much longer an element may be than its neighbour."""

    def __init__(
        self,
        growth: float | str,
    ) -> None: ...

class arc_angle(Operation):  # noqa: N801
    """Set how much of a round edge, or of a curved face, one element may span."""

    def __init__(
        self,
        angle: float | str,
    ) -> None: ...

class face_budget(Operation):  # noqa: N801
    """Set how many faces there may be; watched in the Ledger. Nothing lifts it."""

    def __init__(
        self,
        faces: int,
    ) -> None: ...

class mesh(Operation):  # noqa: N801
    """Mesh all bodies: tetrahedra, hexahedra by sweeping, or hexahedra where that goes."""

    def __init__(
        self,
        elements: Literal["tet", "hex", "auto", "tri", "quad"] = ...,
        order: Literal["1", "2"] = ...,
        around: bool = ...,
        approximate: bool = ...,
        lattice: bool = ...,
        most: float | str | None = ...,
    ) -> None: ...
