"""The demo jobs of Fennel Lane Apiary Works, made through the same commands that a user's clicks send."""

import math
from contextlib import suppress

from django.contrib.auth import get_user_model
from django.db import transaction

from examples import pictures
from examples.parts import SPOUT_AXES, spout_plan
from nomogon_core.errors import NotNeededError
from nomogon_core.job.document import FIRST_SKETCH, calibration_of, picture_of, sketch_of
from nomogon_core.picture.decode import decode
from nomogon_core.picture.edges import pick_edge
from nomogon_core.sketch.regions import find_regions
from shell.demo_parts import PARTS
from stages.overviews import refresh_summary
from store.actions import perform
from store.documents import document_of
from store.making import job_from_picture
from store.models import Job, Member
from store.working import work_on
from work import kernels, services

USERS = (("ro", "hive-latch"), ("mt", "hive-latch"))


class Demo:
    """One job being made by one user."""

    def __init__(self, user, title, number, shot):
        self.user, self.shot = user, shot
        self.job = job_from_picture(user, title, number, shot.jpeg, f"{title.lower().replace(' ', '-')}.jpg")
        self.light = decode(shot.jpeg)

    def do(self, command, /, **arguments):
        return perform(self.job.pk, self.user, None, command, arguments)

    def tie(self, kind, of):
        """A constraint, unless it follows from others already."""
        with suppress(NotNeededError):
            self.do("sketch.constrain", kind=kind, of=of)

    def sketch(self):
        return sketch_of(document_of(self.job))

    def known(self, name, start, end, text):
        """A known length between two places on the true part, picked as a user would."""
        picks = [pick_edge(self.light, *self.shot.camera.to_px([place])[0]) for place in (start, end)]
        self.do(
            "reference.add_known",
            start=[picks[0].x, picks[0].y],
            end=[picks[1].x, picks[1].y],
            text=text,
            sigma_px=max(pick.sigma_px for pick in picks),
        )
        key = max(document_of(self.job)["known"], key=lambda key: int(key[1:]))
        self.do("reference.rename_known", name=key, text=name)

    def trace(self, tolerance=0.1, keep="all"):
        """Outlines traced and taken into the sketch."""
        document = document_of(self.job)
        settings = {"threshold": 0.5, "tolerance_mm": tolerance, "speck_mm2": 1.0, "keep": keep}
        picture = picture_of(document)[0]
        arguments = services.trace_arguments(document, picture, settings)
        result, _ = kernels.trace_picture(arguments["document"], picture, self.shot.jpeg, settings)
        services.keep_done(self.job, "trace", arguments, result)
        self.do("reference.accept_trace", settings=settings)

    def find(self, kind, test):
        """Ids of curves of a kind for which ``test(geometry)`` holds, in order."""
        sketch = self.sketch()
        return [name for name, curve in sketch.curves.items() if curve.kind == kind and test(sketch.geometry(name))]

    def dimension(self, name, kind, of, text=""):
        self.do("sketch.dimension", kind=kind, of=of, text=text)
        key = max(
            (key for key, item in self.sketch().constraints.items() if item.is_dimension), key=lambda key: int(key[1:])
        )
        self.do("sketch.rename", name=key, text=name)

    def build(self):
        """Rebuild now, and keep the result as the worker would."""
        arguments = services.rebuild_arguments(document_of(self.job))
        result, mesh = kernels.rebuild_job(arguments["document"])
        services.keep_done(self.job, "rebuild", arguments, result, mesh)


def users():
    """The two people of the workshop, by initials."""
    found = []
    for name, password in USERS:
        user, fresh = get_user_model().objects.get_or_create(username=name)
        if fresh:
            user.set_password(password)
            user.save()
        found.append(user)
    return found


def _level(way):
    return lambda line: abs(line.end[1 - way] - line.start[1 - way]) < 0.05 and abs(line.end[way] - line.start[way]) > 3


def _latch_plate(user):
    demo = Demo(user, "Hive latch plate", "FLA-014", pictures.latch_plate())
    demo.known("Overall length", (0, 16), (84, 16), "84.00 mm")
    demo.known("Overall height", (25, 0), (25, 46), "46 mm")
    demo.trace()
    for way, kind in enumerate(("horizontal", "vertical")):
        for name in demo.find("line", _level(way)):
            demo.tie(kind, [name])
    holes = demo.find("circle", lambda circle: circle.radius < 4)
    demo.do("sketch.constrain", kind="equal", of=holes)
    demo.dimension("Hole diameter", "diameter", [holes[0]], "3/16 in")
    nose = demo.find("arc", lambda arc: abs(arc.radius - 14) < 0.3)
    demo.dimension("Nose radius", "radius", nose[:1], "14 mm")
    top = demo.find("line", lambda line: min(line.start[1], line.end[1]) > 45)
    bottom = demo.find(
        "line", lambda line: max(line.start[1], line.end[1]) < 0.5 and abs(line.end[0] - line.start[0]) > 20
    )
    demo.dimension("Plate height", "distance", [bottom[0], top[0]], "46 mm")
    region = find_regions(demo.sketch())[0]
    demo.do("ledger.add", name="thickness", text="6 mm")
    demo.do(
        "solid.add",
        kind="extrude",
        title="Plate outline",
        blanks={
            "regions": {"sketch": "s1", "names": [region.name]},
            "extent": "by",
            "length": "thickness",
            "way": "up",
            "result": "new",
            "body": "Plate",
        },
    )
    demo.do(
        "solid.add",
        kind="hole",
        title="Screw seats",
        blanks={
            "centres": {"sketch": "s1", "names": holes},
            "diameter": "8 mm",
            "extent": "by",
            "depth": "thickness / 4",
            "body": "Plate",
        },
    )
    plate = next(iter(document_of(demo.job)["bodies"]))
    demo.do(
        "solid.add",
        kind="fillet",
        blanks={"edges": {"body": plate, "rule": {"at": "top"}}, "radius": "0.8 mm"},
    )
    demo.do("body.set", name=plate, field="material", text="aluminium")
    _stop_pin(demo, plate)
    demo.build()
    return demo


def _stop_pin(demo, plate):
    """A pin of brass in a sketch of its own on the plate's top face."""
    top = {"body": plate, "face": f"{next(iter(document_of(demo.job)['operations']))}.top"}
    sketch = demo.do("sketch.new", title="Stop pin", plane=top).made
    demo.do("sketch.circle", center=[33.0, 38.0], rim=[36.0, 38.0], sketch=sketch)
    region = find_regions(sketch_of(document_of(demo.job), sketch))[0].name
    picked = {"sketch": sketch, "names": [region]}
    blanks = {"regions": picked, "extent": "by", "length": "thickness / 2 + 1/16 in", "way": "up", "result": "new"}
    demo.do("solid.add", kind="extrude", title="Stop pin", blanks=blanks | {"body": "Pin"})
    pin = next(name for name in document_of(demo.job)["bodies"] if name != plate)
    demo.do("body.set", name=pin, field="material", text="brass")
    demo.do("body.set", name=pin, field="colour", text="#d8b45a")
    work_on(demo.job, demo.user, sketch=FIRST_SKETCH)


def _hinge_leaf(user):
    demo = Demo(user, "Smoker hinge leaf", "FLA-021", pictures.hinge_leaf())
    demo.known("Leaf length", (0, 20), (62, 20), "62 mm")
    demo.trace()
    sketch = demo.sketch()
    level = demo.find("line", lambda line: line.start[1] > 37 and line.end[1] > 37)
    far = sketch.points[sketch.curves[level[0]].points[0]]
    demo.do("sketch.remove", names=level[:1])
    ends = sorted(((x, y), name) for name, (x, y) in sketch.points.items() if name in sketch.curves[level[0]].points)
    demo.do("sketch.line", start=ends[0][1], end=[ends[1][0][0] - 0.31, far[1]], free=True)
    return demo


def _honey_spout(user):
    """Five sections of a plan, from round to a flat oval, each lifted out to its station by its cross-hair."""
    demo = Demo(user, "Honey spout", "FLA-031", pictures.spout_plan())
    plan = spout_plan()
    (x, y), (wide, _) = plan[0][0], SPOUT_AXES[0]
    demo.known("Width of the root", (x - wide, y), (x + wide, y), "28 mm")
    scale, middles = demo.shot.camera.scale, demo.shot.camera.to_px([origin for origin, *_ in plan]).tolist()
    ovals = [[*middle, math.pi * wide * high * scale**2] for middle, (wide, high) in zip(middles, SPOUT_AXES)]
    demo.trace(keep=ovals)
    demo.do("ledger.add", name="station", text="12 mm")
    fit, sections = calibration_of(document_of(demo.job), picture_of(document_of(demo.job))[0]), []
    for number, middle in enumerate(middles):
        at = fit.to_mm([middle])[0]
        (oval,) = demo.find("ellipse", lambda one, at=at: math.dist(one.center, at) < 1) or demo.find(
            "circle", lambda one, at=at: math.dist(one.center, at) < 1
        )
        blanks = {"curves": [oval], "title": f"Section {number + 1}", "origin": (at + 0.6).tolist()}
        demo.do("sketch.edit", kind="section", blanks=blanks | {"station": f"{number} * station"})
        sections.append({"sketch": list(document_of(demo.job)["sketches"])[-1], "name": f"region {oval}"})
    loft = {"sections": {"sections": sections}, "how": "smooth", "tip": "flat", "result": "new", "body": "Spout"}
    demo.do("solid.add", kind="loft", blanks=loft)
    operation, (body,) = list(document_of(demo.job)["operations"])[-1], document_of(demo.job)["bodies"]
    faces = {"body": body, "names": [f"{operation}.start", f"{operation}.end"]}
    demo.do("solid.add", kind="hollow", blanks={"faces": faces, "wall": "1.6 mm"})
    demo.build()
    return demo


@transaction.atomic
def write_demo():
    """Write the demo jobs unless they are there; returns how many were written."""
    ro, mt = users()
    if Job.objects.filter(members__user=ro, number__startswith="FLA-").exists():
        return 0
    waiting = Demo(mt, "Entrance reducer", "FLA-022", pictures.entrance_reducer())
    demos = [waiting, *(part(mt) for part in PARTS), _honey_spout(mt), _hinge_leaf(mt), _latch_plate(ro)]
    for demo in demos:
        for user in (ro, mt):
            Member.objects.get_or_create(job=demo.job, user=user, defaults={"role": Member.EDITOR})
        demo.job.refresh_from_db()
        refresh_summary(demo.job)
    return len(demos)
