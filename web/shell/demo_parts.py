"""Demo jobs that are drawn instead of traced, each built by other operations: a cap that is turned, a baffle of
walls, a cam with a ring of holes, a medal."""

import math
from pathlib import Path

from examples.entrance_disc import HEIGHT_MM as DISC_FACE_MM
from examples.entrance_disc import entrance_disc as entrance_disc_file
from nomogon_core.exchange.readers.curves import read_outlines
from nomogon_core.exchange.readers.meshes import read_mesh
from nomogon_core.job.document import sketch_of
from nomogon_core.job.outlines import outline_bytes
from nomogon_core.sketch.regions import find_regions
from nomogon_core.solid.meshes import packed
from store.actions import perform
from store.documents import Shelf, document_of
from store.making import new_job
from work import kernels, services

DISC = "entrance-disc.stl"
BEE = Path(__file__).resolve().parents[2] / "examples" / "bee.svg"


class Drawn:
    """One job being drawn by one user."""

    def __init__(self, user, title, number):
        self.user, self.job = user, new_job(user, title, number)

    def do(self, command, /, **arguments):
        return perform(self.job.pk, self.user, None, command, arguments)

    @property
    def document(self):
        return document_of(self.job)

    def lines(self, *places, closed=True, sketch="s1"):
        """Lines from place to place, each beginning where the last one ends; their ids."""
        ids, start, first = [], list(places[0]), None
        for place in places[1:]:
            ids.append(self.line(start, list(place), sketch))
            first = first or self.curve(ids[0], sketch).points[0]
            start = self.curve(ids[-1], sketch).points[1]
        return [*ids, self.line(start, first, sketch)] if closed else ids

    def line(self, start, end, sketch="s1", **more):
        self.do("sketch.line", start=start, end=end, sketch=sketch, **more)
        return list(sketch_of(self.document, sketch).curves)[-1]

    def curve(self, name, sketch="s1"):
        return sketch_of(self.document, sketch).curves[name]

    def circle(self, x, y, radius, sketch="s1"):
        self.do("sketch.circle", center=[x, y], rim=[x + radius, y], sketch=sketch)
        return list(sketch_of(self.document, sketch).curves)[-1]

    def regions(self, sketch="s1"):
        names = [region.name for region in find_regions(sketch_of(self.document, sketch))]
        return {"sketch": sketch, "names": names}

    def add(self, kind, title="", **blanks):
        """An operation; its id."""
        self.do("solid.add", kind=kind, title=title, blanks=blanks)
        return list(self.document["operations"])[-1]

    def bee(self, sketch, width, place):
        """The workshop's bee, from a drawing in a file."""
        told = read_outlines(BEE.read_bytes(), BEE.name)
        drawing = {"file": Shelf(self.job).keep(outline_bytes(told), "application/json"), "group": ""}
        blanks = {"drawing": drawing, "size": width, "by": "width", "place": place, "facing": "same"}
        self.do("sketch.edit", kind="drawing", sketch=sketch, blanks=blanks)

    def body(self):
        return next(iter(self.document["bodies"]))

    def build(self):
        """Rebuild now, and keep the result as the worker would."""
        arguments = services.rebuild_arguments(self.document)
        result, mesh = kernels.rebuild_job(arguments["document"], files=Shelf(self.job))
        services.keep_done(self.job, "rebuild", arguments, result, mesh)
        return self


def feeder_cap(user):
    """A half profile turned about its axis, hollowed from below, with six vents in a ring."""
    demo = Drawn(user, "Feeder cap", "FLA-030")
    rims = demo.lines((0, 0), (26, 0), (26, 4), (22, 6), (20, 19), (0, 22))
    axis = demo.line([0, -8], [0, 30], construction=True)
    demo.do("sketch.lay_on", sketch="s1", plane="front")
    about = {"sketch": "s1", "names": [axis]}
    cap = demo.add("revolve", regions=demo.regions(), axis=about, extent="full", result="new", body="Cap")
    faces = {"body": demo.body(), "names": [f"{cap}.side({rims[0]})"]}
    demo.add("hollow", faces=faces, wall="1.8 mm")
    vents = demo.do("sketch.new", title="Vents", plane="plan").made
    rim = demo.circle(12, 0, 1.6, vents)
    vent = demo.add(
        "hole",
        "Vents",
        centres={"sketch": vents, "names": [rim]},
        diameter="3.2 mm",
        extent="through",
        body=demo.body(),
    )
    demo.add("repeat", operations={"operations": [vent]}, way="ring", about="z", count="6", spread="full")
    return demo.build()


def entrance_baffle(user):
    """Fences of two heights on a foot."""
    demo = Drawn(user, "Entrance baffle", "FLA-032")
    high = demo.lines((0, 0), (0, 40), (70, 40), (70, 0), closed=False)
    low = demo.lines((18, 0), (18, 24), (52, 24), (52, 0), closed=False)
    usual = {"thickness": "2 mm", "side": "middle", "foot": "4 mm", "foot_height": "2 mm"}
    demo.add(
        "wall",
        "Outer fence",
        curves={"sketch": "s1", "names": high},
        height="16 mm",
        result="new",
        body="Baffle",
        **usual,
    )
    demo.add(
        "wall", "Inner fence", curves={"sketch": "s1", "names": low}, height="9 mm", result="new", body="Inner", **usual
    )
    baffle, inner = demo.document["bodies"]
    demo.do("sketch.new", title="Tie plate", plane="plan")
    tie = list(demo.document["sketches"])[-1]
    demo.do("sketch.rectangle", first=[-4, 18], second=[74, 30], sketch=tie)
    demo.add(
        "extrude",
        "Tie plate",
        regions=demo.regions(tie),
        extent="by",
        length="2 mm",
        way="up",
        result="add",
        body=baffle,
    )
    demo.add("combine", body=baffle, other=inner, how="add", stays="gone")
    return demo.build()


def drive_cam(user):
    """A disc with a hub, six holes in a ring, a leaning outside and counterbored screws."""
    demo = Drawn(user, "Extractor drive cam", "FLA-033")
    demo.circle(0, 0, 34)
    demo.add(
        "extrude",
        "Disc",
        regions=demo.regions(),
        extent="by",
        length="8 mm",
        way="up",
        draft="2°",
        result="new",
        body="Cam",
    )
    disc = list(demo.document["operations"])[-1]
    hub = demo.do("sketch.new", title="Hub", plane={"body": demo.body(), "face": f"{disc}.top"}).made
    demo.circle(0, 0, 11, hub)
    bolt = demo.circle(22, 0, 2, hub)
    picked = {"sketch": hub, "names": demo.regions(hub)["names"][:1]}
    demo.add("extrude", "Hub", regions=picked, extent="by", length="9 mm", way="up", result="add", body=demo.body())
    screw = demo.add(
        "hole",
        "Screws",
        centres={"sketch": hub, "names": [bolt]},
        diameter="M4",
        extent="through",
        bore="M4 head + 1 mm",
        bore_depth="M4 head height",
        **{"from": "plane"},
        body=demo.body(),
    )
    ring = demo.add("repeat", operations={"operations": [screw]}, way="ring", about="z", count="6", spread="full")
    for step in (screw, ring):
        demo.do("group.join", step=step, title="Screw circle")
    demo.add("chamfer", edges={"body": demo.body(), "rule": {"at": "top"}}, distance="1 mm", how="equal")
    demo.do("body.set", name=demo.body(), field="material", text="steel")
    return demo.build()


def fair_medal(user):
    """A relief: a rim, a field below it, and lettering between."""
    demo = Drawn(user, "Fair medal", "FLA-034")
    demo.circle(0, 0, 22)
    rim = demo.circle(0, 0, 19)
    for words, place in (("APIARY FAIR", [0, 19]), ("2026", [0, -19])):
        text = {"words": words, "font": "bold", "height": "2.8 mm", "from": "middle", "place": place, "run": "along"}
        text |= {"along": rim, "side": "inside", "reads": "upright", "away": "1.6 mm", "spacing": "0.3 mm"}
        demo.do("sketch.edit", kind="text", blanks=text)
    text = {"words": "BEE 7", "font": "bold", "height": "6 mm", "from": "middle", "place": [0, -3], "run": "straight"}
    demo.do("sketch.edit", kind="text", blanks=text)
    drawn = sketch_of(demo.document)
    around = {region.name: region for region in find_regions(drawn)}
    edge = next(name for name, region in around.items() if region.holes and abs(region.area - math.pi * 123) < 1)
    field = next(name for name, region in around.items() if len(region.holes) > 1 and name != edge)
    inside = {frozenset(name for name, _ in loop) for loop in around[field].holes}
    letters = [name for name in around if frozenset(name.split()[1:]) in inside]
    eyes = [name for name in around if name not in (edge, field, *letters)]
    demo.add(
        "relief",
        regions={"sketch": "s1", "names": [edge]},
        height="3 mm",
        regions_second={"sketch": "s1", "names": [field, *eyes]},
        height_second="1.6 mm",
        regions_third={"sketch": "s1", "names": letters},
        height_third="2.6 mm",
        draft="3°",
        result="new",
        body="Medal",
    )
    demo.do("body.set", name=demo.body(), field="material", text="brass")
    demo.do("body.set", name=demo.body(), field="colour", text="#d8b45a")
    return demo.build()


def hive_tag(user):
    """A tag with the workshop's bee let into it in another colour, from a drawing in a file."""
    demo = Drawn(user, "Hive tag", "FLA-036")
    demo.do("sketch.rectangle", first=[0, 0], second=[44, 60], sketch="s1")
    demo.do("sketch.circle", center=[22, 54], rim=[24.5, 54], sketch="s1")
    plate = {"sketch": "s1", "names": [find_regions(sketch_of(demo.document, "s1"))[0].name]}
    tag = demo.add("extrude", "Tag", regions=plate, extent="by", length="3 mm", way="up", result="new", body="Tag")
    upright = {"body": demo.body(), "rule": {"at": "upright"}}
    demo.add("fillet", edges=upright, radius="5 mm")
    mark = demo.do("sketch.new", title="Mark", plane={"body": demo.body(), "face": f"{tag}.top"}).made
    demo.bee(mark, "34 mm", [22, 27])
    demo.add(
        "inlay",
        "Bee",
        regions=demo.regions(mark),
        of=demo.body(),
        depth="0.8 mm",
        result="new",
        body="Bee",
        clearance="0.05 mm",
    )
    bee = next(name for name in demo.document["bodies"] if name != demo.body())
    demo.do("body.set", name=bee, field="colour", text="#d8b45a")
    demo.do("body.set", name=demo.body(), field="colour", text="#5c6660")
    return demo.build()


def entrance_disc(user):
    """A disc that somebody else made and sent as a mesh, with the workshop's bee raised on it."""
    demo = Drawn(user, "Entrance disc", "FLA-043")
    kept = Shelf(demo.job).keep(packed(read_mesh(entrance_disc_file(), DISC).mesh), "application/octet-stream")
    brought = {"file": kept, "name": DISC}
    demo.add("bring", "Disc", mesh=brought, unit="mm", lying="stands", result="new", body="Disc")
    demo.build()
    flats = {one["name"]: one["origin"][2] for one in services.known_rebuild(demo.job, demo.document).result["faces"]}
    face = next(name for name, height in flats.items() if abs(height - DISC_FACE_MM) < 1e-3)
    mark = demo.do("sketch.new", title="Mark", plane={"body": demo.body(), "face": face}).made
    demo.bee(mark, "17 mm", [-9, -22])
    demo.add(
        "extrude",
        "Bee",
        regions=demo.regions(mark),
        extent="by",
        length="0.8 mm",
        way="up",
        result="add",
        body=demo.body(),
    )
    return demo.build()


def lid_boss(user):
    """A cone on a lid, with the workshop's bee raised around it."""
    demo = Drawn(user, "Lid boss", "FLA-037")
    rims = demo.lines((0, 0), (36, 0), (36, 4), (24, 4), (16, 26), (0, 26))
    demo.do("sketch.lay_on", sketch="s1", plane="front")
    boss = demo.add("revolve", "Boss", regions=demo.regions(), axis="z", extent="full", result="new", body="Boss")
    mark = demo.do("sketch.new", title="Mark", plane="front").made
    demo.bee(mark, "17 mm", [0, 14])
    demo.add(
        "wrap",
        "Bee",
        regions=demo.regions(mark),
        face={"body": demo.body(), "names": [f"{boss}.side({rims[3]})"]},
        result="raised",
        depth="0.8 mm",
    )
    demo.add("fillet", edges={"body": demo.body(), "rule": {"at": "top"}}, radius="2 mm")
    return demo.build()


def spring_guide(user):
    """A tube on a flange, with its number sunk around it."""
    demo = Drawn(user, "Smoker spring guide", "FLA-038")
    demo.circle(0, 0, 20)
    outer, bore = demo.circle(0, 0, 12), demo.circle(0, 0, 8)
    names = demo.regions()["names"]
    tube = {"sketch": "s1", "names": [f"region {outer}"]}
    flange = {"sketch": "s1", "names": [name for name in names if name != f"region {bore}"]}
    usual = {"extent": "by", "way": "up"}
    demo.add("extrude", "Flange", regions=flange, length="4 mm", result="new", body="Guide", **usual)
    guide = demo.add("extrude", "Tube", regions=tube, length="46 mm", result="add", body=demo.body(), **usual)
    number = demo.do("sketch.new", title="Number", plane="front").made
    text = {"words": "FLA-038", "font": "bold", "height": "7 mm", "from": "middle", "place": [0, 24], "run": "straight"}
    demo.do("sketch.edit", kind="text", sketch=number, blanks=text)
    demo.add(
        "wrap",
        "Number",
        regions=demo.regions(number),
        face={"body": demo.body(), "names": [f"{guide}.side({outer})"]},
        result="sunk",
        depth="0.6 mm",
    )
    demo.do("body.set", name=demo.body(), field="material", text="aluminium")
    return demo.build()


def spring_handle(user):
    """A bar wound as a helix, thick in its middle and thin at its ends."""
    demo = Drawn(user, "Tray handle", "FLA-039")
    blanks = {"path": "helix", "about": "x", "reach": "9 mm", "pitch": "9 mm", "turns": "6", "diameter": "3 mm"}
    thick = {"diameter_second": "5.5 mm", "share_second": "50", "diameter_third": "3 mm", "share_third": "100"}
    demo.add("bar", "Coil", result="new", body="Handle", **blanks, **thick)
    demo.do("body.set", name=demo.body(), field="material", text="steel")
    return demo.build()


def smoke_guard(user):
    """A ribbon between two rails on planes over each other, rounded at its edges."""
    demo = Drawn(user, "Smoke guard", "FLA-040")
    demo.do("sketch.spline", places=[[0, 0], [18, 12], [40, 6], [62, 20]], sketch="s1")
    low = list(sketch_of(demo.document, "s1").curves)[-1]
    demo.do("plane.add", kind="offset", fields={"from": "plan", "distance": "26 mm"}, title="Upper")
    upper = list(demo.document["planes"])[-1]
    rail = demo.do("sketch.new", title="Upper rail", plane=upper).made
    demo.do("sketch.spline", places=[[4, 8], [20, 24], [42, 14], [66, 26]], sketch=rail)
    high = list(sketch_of(demo.document, rail).curves)[-1]
    rails = {"first": {"sketch": "s1", "names": [low]}, "second": {"sketch": rail, "names": [high]}}
    demo.add("surface", "Ribbon", thickness="2.4 mm", side="both", result="new", body="Guard", **rails)
    return demo.build()


PARTS = (
    feeder_cap,
    entrance_baffle,
    drive_cam,
    fair_medal,
    hive_tag,
    entrance_disc,
    lid_boss,
    spring_guide,
    spring_handle,
    smoke_guard,
)
