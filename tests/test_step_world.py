"""STEP as others write it: assemblies, mixed units, other kinds of surfaces, facets, colours."""

import random
import re
from dataclasses import replace

import numpy as np
import pytest
from dice import seeds

import lithon
from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.geometry.frames import Frame
from lithon.samples import cast_anchor
from lithon.samples.build import Round, prism, rectangle

BLOCK = prism(rectangle(0, 0, 4, 3), 2.0, name="block")
ROD = prism(Round((10, 0), 2.0), 5.0, name="rod")


def parts(*bodies) -> str:
    return lithon.step_text(Model.of(bodies), "part")


def with_more(text: str, more: str) -> str:
    return text.replace("ENDSEC;\nEND-ISO", more.strip() + "\nENDSEC;\nEND-ISO")


def numbers(text: str, kind: str) -> list[str]:
    return re.findall(rf"^(#\d+)={kind}\(", text, re.M)


#: A parent with three placements of the block: shifted, turned, and inside a sub-assembly of its own.
ASSEMBLY = """
#8000=CARTESIAN_POINT('',(100.,0.,0.));
#8001=DIRECTION('',(0.,0.,1.));
#8002=DIRECTION('',(0.,1.,0.));
#8003=AXIS2_PLACEMENT_3D('',#8000,#8001,#8002);
#8004=CARTESIAN_POINT('',(0.,0.,0.));
#8005=AXIS2_PLACEMENT_3D('',#8004,$,$);
#8006=CARTESIAN_POINT('',(0.,50.,7.));
#8007=AXIS2_PLACEMENT_3D('',#8006,#8001,$);
#8010=PRODUCT('top','Schleusentor','',({context}));
#8011=PRODUCT_DEFINITION_FORMATION('','',#8010);
#8012=PRODUCT_DEFINITION('design','',#8011,$);
#8013=PRODUCT_DEFINITION_SHAPE('','',#8012);
#8014=SHAPE_REPRESENTATION('top',(#8005),{units});
#8015=SHAPE_DEFINITION_REPRESENTATION(#8013,#8014);
#8020=PRODUCT('sub','Fl\\X2\\00FC\\X0\\gel','',({context}));
#8021=PRODUCT_DEFINITION_FORMATION('','',#8020);
#8022=PRODUCT_DEFINITION('design','',#8021,$);
#8023=PRODUCT_DEFINITION_SHAPE('','',#8022);
#8024=SHAPE_REPRESENTATION('sub',(#8005),{units});
#8025=SHAPE_DEFINITION_REPRESENTATION(#8023,#8024);
"""


def placed(number: int, child: str, parent: str, child_rep: str, parent_rep: str, place: str, swap: bool) -> str:
    first, second = ("#8005", place) if not swap else (place, "#8005")
    one, two = (child_rep, parent_rep) if not swap else (parent_rep, child_rep)
    n = 8100 + 10 * number
    return (
        f"#{n}=NEXT_ASSEMBLY_USAGE_OCCURRENCE('{number}','','',{parent},{child},$);\n"
        f"#{n + 1}=PRODUCT_DEFINITION_SHAPE('','',#{n});\n"
        f"#{n + 2}=ITEM_DEFINED_TRANSFORMATION('','',{first},{second});\n"
        f"#{n + 3}=(REPRESENTATION_RELATIONSHIP('','',{one},{two})"
        f"REPRESENTATION_RELATIONSHIP_WITH_TRANSFORMATION(#{n + 2})SHAPE_REPRESENTATION_RELATIONSHIP());\n"
        f"#{n + 4}=CONTEXT_DEPENDENT_SHAPE_REPRESENTATION(#{n + 3},#{n + 1});\n"
    )


def assembly(swap: bool) -> str:
    text = parts(BLOCK)
    (definition,), (representation,) = (
        numbers(text, "PRODUCT_DEFINITION"),
        numbers(text, "ADVANCED_BREP_SHAPE_REPRESENTATION"),
    )
    (context,) = numbers(text, "PRODUCT_CONTEXT")
    units = re.search(r"^(#\d+)=\(GEOMETRIC_REPRESENTATION_CONTEXT", text, re.M).group(1)
    more = ASSEMBLY.format(context=context, units=units)
    more += placed(1, definition, "#8012", representation, "#8014", "#8003", swap)
    more += placed(2, definition, "#8022", representation, "#8024", "#8003", swap)
    more += placed(3, "#8022", "#8012", "#8024", "#8014", "#8007", swap)
    return with_more(text, more)


@pytest.mark.parametrize("swap", [False, True])
def test_placements_of_assemblies(swap):
    """Whichever end of a relationship is named first; a part placed twice; a tree of two levels."""
    arrival = lithon.parse_step(assembly(swap))
    assert not arrival.notes
    bodies = arrival.model.bodies
    assert [volume(b) for b in bodies] == pytest.approx([24.0, 24.0])
    assert not any(flaws(b, arrival.model.tolerance) for b in bodies)
    # The block's centre (2, 1.5, 1) turned a quarter about z and shifted by 100; the other one further up.
    places = {b.path: mass_properties(b).centroid for b in bodies}
    assert places[("part",)] == pytest.approx((98.5, 2.0, 1.0))
    assert places[("Flügel", "part")] == pytest.approx((98.5, 52.0, 8.0))
    assert len({b.name for b in bodies}) == 2


@pytest.mark.parametrize("seed", seeds(4))
def test_order_of_entities_does_not_matter(seed):
    head, _, rest = assembly(False).partition("DATA;\n")
    body, _, tail = rest.partition("ENDSEC;")
    lines = body.strip().split("\n")
    random.Random(seed).shuffle(lines)
    bodies = lithon.parse_step(f"{head}DATA;\n" + "\n".join(lines) + f"\nENDSEC;{tail}").model.bodies
    assert sorted(b.path for b in bodies) == [("Flügel", "part"), ("part",)]


def test_an_assembly_that_holds_itself_ends():
    more = placed(4, "#8012", "#8022", "#8014", "#8024", "#8003", False)
    centimetres = assembly(False).replace(".MILLI.,.METRE.", ".CENTI.,.METRE.")
    for text, volume_there in ((assembly(False), 24.0), (centimetres, 24000.0)):
        arrival = lithon.parse_step(with_more(text, more))
        (body,) = arrival.model.bodies
        assert volume(body) == pytest.approx(volume_there) and "holds itself" in arrival.notes[0]


def test_mapped_items_and_mirrors():
    text = parts(ROD)
    (representation,) = numbers(text, "ADVANCED_BREP_SHAPE_REPRESENTATION")
    units = re.search(r"^(#\d+)=\(GEOMETRIC_REPRESENTATION_CONTEXT", text, re.M).group(1)
    more = f"""
#8000=CARTESIAN_POINT('',(0.,0.,0.));
#8001=AXIS2_PLACEMENT_3D('',#8000,$,$);
#8002=REPRESENTATION_MAP(#8001,{representation});
#8003=CARTESIAN_POINT('',(1.,2.,3.));
#8004=AXIS2_PLACEMENT_3D('',#8003,$,$);
#8005=MAPPED_ITEM('',#8002,#8004);
#8006=DIRECTION('',(-1.,0.,0.));
#8007=DIRECTION('',(0.,1.,0.));
#8008=DIRECTION('',(0.,0.,1.));
#8009=CARTESIAN_TRANSFORMATION_OPERATOR_3D('','',#8006,#8007,#8000,1.,#8008);
#8010=MAPPED_ITEM('',#8002,#8009);
#8011=SHAPE_REPRESENTATION('all',(#8001,#8005,#8010),{units});
"""
    arrival = lithon.parse_step(with_more(text, more))
    bodies = arrival.model.bodies
    assert not any(flaws(b, arrival.model.tolerance) for b in bodies) and not arrival.notes
    assert [volume(b) for b in bodies] == pytest.approx([20 * np.pi] * 2)
    centres = sorted(mass_properties(b).centroid.tolist() for b in bodies)
    assert centres == [pytest.approx((-10, 0, 2.5)), pytest.approx((11, 2, 5.5))]


def test_parts_in_different_units_and_angles():
    """One part in inches, one in millimetres, in one file."""
    text = parts(BLOCK)
    lines = [line for line in text.partition("DATA;\n")[2].partition("ENDSEC;")[0].split("\n") if line]
    shifted = "\n".join(re.sub(r"#(\d+)", lambda m: f"#{int(m.group(1)) + 5000}", line) for line in lines)
    shifted = shifted.replace(
        "(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))",
        "(CONVERSION_BASED_UNIT('INCH',#9001)LENGTH_UNIT()NAMED_UNIT($))",
    )
    more = "#9001=LENGTH_MEASURE_WITH_UNIT(LENGTH_MEASURE(2.54),#9002);\n"
    more += "#9002=(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.CENTI.,.METRE.));\n"
    bodies = lithon.parse_step(with_more(text, shifted + "\n" + more)).model.bodies
    assert [volume(b) for b in bodies] == pytest.approx([24.0, 24.0 * 25.4**3])


def test_angles_in_degrees():
    text = lithon.step_text(cast_anchor())
    degrees = text.replace(
        "(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.))",
        "(CONVERSION_BASED_UNIT('DEGREE',#9001)NAMED_UNIT($)PLANE_ANGLE_UNIT())",
    )
    degrees = with_more(degrees, "#9001=PLANE_ANGLE_MEASURE_WITH_UNIT(PLANE_ANGLE_MEASURE(0.0174532925199433),#9002);\n"
                        "#9002=(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.));")  # fmt: skip

    def turned(match):
        return f"{match.group(1)}{float(np.degrees(float(match.group(2))))!r})"

    degrees = re.sub(r"(CONICAL_SURFACE\('',#\d+,[-+.\dE]+,)([-+.\dE]+)\)", turned, degrees)
    a, b = (lithon.parse_step(t).model.bodies[0] for t in (text, degrees))
    assert volume(b) == pytest.approx(volume(a), rel=1e-9)


# ---- the same solid through other entities


def same_solid(text: str, exact: float) -> None:
    arrival = lithon.parse_step(text)
    assert not arrival.notes
    for body in arrival.model.bodies:
        assert not flaws(body, arrival.model.tolerance)
    assert sum(volume(b) for b in arrival.model.bodies) == pytest.approx(exact, rel=1e-9)


def test_cylinders_as_revolutions_extrusions_and_offsets():
    text = parts(ROD)
    surface, frame, radius = re.search(r"(#\d+)=CYLINDRICAL_SURFACE\('',(#\d+),([\d.]+)\)", text).groups()
    line = f"{surface}=CYLINDRICAL_SURFACE('',{frame},{radius});"
    assert line in text
    axis = """
#8000=CARTESIAN_POINT('',(10.,0.,0.));
#8001=DIRECTION('',(0.,0.,{z}));
#8002=AXIS1_PLACEMENT('',#8000,#8001);
#8003=CARTESIAN_POINT('',(12.,0.,0.));
#8004=DIRECTION('',(0.,0.,1.));
#8005=VECTOR('',#8004,1.);
#8006=LINE('',#8003,#8005);
"""
    # By the standard the normal of a revolution is (axis x radius) x tangent: outwards where both point up.
    exact = 20 * np.pi
    face = re.search(rf"ADVANCED_FACE\('',\([^)]*\),{surface},\.T\.\)", text).group()
    for z, sense in (("1.", ".T."), ("-1.", ".F.")):
        turned = text.replace(line, f"{surface}=SURFACE_OF_REVOLUTION('',#8006,#8002);")
        turned = turned.replace(face, face.replace(".T.)", f"{sense})"))
        same_solid(with_more(turned, axis.format(z=z)), exact)
    rim = "#8010=CIRCLE('',{frame},2.0);\n#8011=DIRECTION('',(0.,0.,{z}));\n#8012=VECTOR('',#8011,1.);"
    for z, sense in (("1.", ".T."), ("-1.", ".F.")):
        swept = text.replace(line, f"{surface}=SURFACE_OF_LINEAR_EXTRUSION('',#8010,#8012);")
        swept = swept.replace(face, face.replace(".T.)", f"{sense})"))
        same_solid(with_more(swept, rim.format(frame=frame, z=z)), exact)
    inner = f"#8020=CYLINDRICAL_SURFACE('',{frame},1.5);"
    same_solid(with_more(text.replace(line, f"{surface}=OFFSET_SURFACE('',#8020,0.5,.F.);"), inner), exact)
    inner = f"#8020=CYLINDRICAL_SURFACE('',{frame},2.0);"
    cut = f"{surface}=RECTANGULAR_TRIMMED_SURFACE('',#8020,0.,6.28,0.,5.,.T.,.T.);"
    same_solid(with_more(text.replace(line, cut), inner), exact)


def test_trimmed_curves_and_surface_curves_on_edges():
    text = parts(BLOCK)
    edge, curve = re.search(r"(#\d+)=EDGE_CURVE\('',#\d+,#\d+,(#\d+),", text).groups()
    line = re.search(rf"^{edge}=.*$", text, re.M).group()
    for wrapped in ("#8000=TRIMMED_CURVE('',{c},(0.),(1.),.T.,.PARAMETER.);",
                    "#8000=SURFACE_CURVE('',{c},(),.CURVE_3D.);",
                    "#8000=SEAM_CURVE('',{c},(),.CURVE_3D.);"):  # fmt: skip
        changed = text.replace(line, line.replace(curve, "#8000"))
        same_solid(with_more(changed, wrapped.format(c=curve)), 24.0)


def test_facetted_solids_with_and_without_planes():
    corners = [(0, 0, 0), (1, 0, 0), (1, 1, 0), (0, 1, 0), (0, 0, 1), (1, 0, 1), (1, 1, 1), (0, 1, 1)]
    sides = [(3, 2, 1, 0), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]
    text = parts(BLOCK)
    shell = re.search(r"CLOSED_SHELL\('',\(([^)]*)\)\)", text)
    more = "".join(f"#{8000 + k}=CARTESIAN_POINT('',({x}.,{y}.,{z}.));\n" for k, (x, y, z) in enumerate(corners))
    for k, side in enumerate(sides):
        more += f"#{8100 + k}=POLY_LOOP('',({','.join(f'#{8000 + c}' for c in side)}));\n"
        more += f"#{8200 + k}=FACE_OUTER_BOUND('',#{8100 + k},.T.);\n#{8300 + k}=FACE('',(#{8200 + k}));\n"
    text = text.replace(shell.group(1), ",".join(f"#{8300 + k}" for k in range(6)))
    same_solid(with_more(text.replace("MANIFOLD_SOLID_BREP", "FACETED_BREP"), more), 1.0)


def test_tessellated_solids_with_strips_and_fans():
    """A tetrahedron as plain triangles; a cube's skin as a strip and two fans."""
    text = parts(BLOCK)
    (solid,) = numbers(text, "MANIFOLD_SOLID_BREP")
    line = re.search(rf"^{solid}=.*$", text, re.M).group()
    plain = f"""
#8000=COORDINATES_LIST('',4,((0.,0.,0.),(3.,0.,0.),(0.,3.,0.),(0.,0.,3.)));
#8001=TRIANGULATED_FACE('',#8000,4,(),$,(),((1,3,2),(1,2,4),(2,3,4),(1,4,3)));
{solid}=TESSELLATED_SOLID('wedge',(#8001),$);"""
    body = lithon.parse_step(with_more(text.replace(line, ""), plain)).model.bodies[0]
    assert volume(body) == pytest.approx(4.5) and body.name == "wedge"
    cube = f"""
#8000=COORDINATES_LIST('',9,((9.,9.,9.),(0.,0.,0.),(1.,0.,0.),(1.,1.,0.),(0.,1.,0.),(0.,0.,1.),(1.,0.,1.),(1.,1.,1.),(0.,1.,1.)));
#8001=COMPLEX_TRIANGULATED_FACE('',#8000,8,(),$,(2,3,4,5,6,7,8,9),((5,1,6,2,7,3,8,4,5,1)),((1,4,3,2),(5,6,7,8)));
{solid}=TESSELLATED_SOLID('',(#8001),$);"""
    body = lithon.parse_step(with_more(text.replace(line, ""), cube)).model.bodies[0]
    assert volume(body) == pytest.approx(1.0) and len(body.faces) == 6


def test_colours_and_names_go_there_and_back():
    bodies = [replace(BLOCK, name="Tür 門 😀", colour=(0.25, 0.5, 1.0)), ROD]
    back = lithon.parse_step(lithon.step_text(Model.of(bodies))).model.bodies
    assert [(b.name, b.colour) for b in back] == [("Tür 門 😀", (0.25, 0.5, 1.0)), ("rod", None)]


def test_open_sheets_arrive_as_open_bodies():
    (body,) = Model.of([BLOCK]).bodies
    sheet = replace(body, uses=body.uses[:3])
    (back,) = lithon.parse_step(lithon.step_text(Model.of([sheet]))).model.bodies
    assert len(back.faces) == 3 and {f.kind for f in flaws(back, 1e-6)} == {"open edge"}


def test_edges_along_which_a_body_touches_itself():
    """Two blocks on one diagonal, one shell: four faces at one edge. Sound, and said in a note."""
    one = prism(rectangle(0, 0, 1, 1), 1.0)
    two = prism(rectangle(1, 1, 2, 2), 1.0)
    from lithon.brep.rewrite import rewrite

    def at(body, x, y):
        return next(e for e in body.edges() if e.curve.kind == "line" and np.allclose(e.at(0.5), (x, y, 0.5)))

    a, b = at(one, 1, 1), at(two, 1, 1)
    same = np.allclose(a.at(0.0), b.at(0.0))
    ends = {b.start: a.start if same else a.end, b.end: a.end if same else a.start}
    joined = rewrite(two, vertices=ends, edges={b: (a, same)})
    text = lithon.step_text(Model.of([one.with_uses([*one.uses, *joined.uses])]))
    arrival = lithon.parse_step(text)
    (body,) = arrival.model.bodies
    assert not flaws(body, arrival.model.tolerance) and volume(body) == pytest.approx(2.0)
    cards = lithon.findings(arrival.model, 0.5)
    assert [c.kind for c in cards if c.kind == "touching edge"] == ["touching edge"]
    assert not [c for c in cards if c.severity == "stops"]


def test_small_gaps_of_a_file_loosen_its_tolerance_and_are_said():
    """A vertex written half a micron off: sound, with a note; a tenth of a millimetre off: a finding."""
    text = parts(prism(rectangle(0, 0, 40, 30), 20.0, frame=Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))))
    number, point = re.search(r"VERTEX_POINT\('',#(\d+)\)", text).group(1), None
    line = re.search(rf"^#{number}=CARTESIAN_POINT\('',\(([^)]*)\)\);$", text, re.M)
    point = [float(c) for c in line.group(1).split(",")]
    for off, sound in ((5e-4, True), (0.1, False)):
        moved = ",".join(repr(c + off) for c in point)
        arrival = lithon.parse_step(text.replace(line.group(), f"#{number}=CARTESIAN_POINT('',({moved}));"))
        (body,) = arrival.model.bodies
        assert (not flaws(body, arrival.model.tolerance)) == sound
        assert any("microns" in note for note in arrival.notes) == sound
