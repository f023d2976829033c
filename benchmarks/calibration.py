"""Calibration models on made-up shots with known truth: dimension errors and coverage of the stated intervals."""

import math

import attrs
import numpy as np

from benchmarks.previews import cleaning_ms
from examples import parts
from examples.render import rounded_polygon
from examples.tilted import CARD, Pinhole, shoot_beside_card
from nomogon_core.picture.decode import decode
from nomogon_core.picture.edges import pick_edge
from nomogon_core.reference.calibration import KnownLength
from nomogon_core.reference.models import choose_model, fit_plane
from nomogon_core.reference.sheets import find_rectangle, rectangle_from_corners

SIZE = (4000, 3000)
PART_AT = (20.0, 20.0)
PART_MM = 84.0
# Pairs of places on straight outer edges of the plate, each with the direction across its edge.
DIMENSIONS = (
    ((0.0, 16.0), (84.0, 16.0)),
    ((25.0, 0.0), (25.0, 46.0)),
    ((0.0, 25.0), (50.0, 6.0)),
    ((62.0, 6.5), (84.0, 16.0)),
    ((0.0, 10.0), (84.0, 16.0)),
    ((16.0, 0.0), (30.0, 46.0)),
    ((0.0, 30.0), (16.0, 46.0)),
    ((8.0, 0.0), (34.0, 46.0)),
)
SHEET_MM = (180.0, 170.0)
SHOTS = {"card": 24, "sheet": 16, "distorted": 16, "similarity": 24, "x and y scale": 16, "affine": 16}
GAUGE_SIGMA_MM = 0.01
CARD_SIGMA_MM = 0.04
READINGS = 8


def _edges(light, camera, places):
    return [pick_edge(light, *(pixel + (1.5, -1.0))) for pixel in camera.to_px(places)]


def _errors(fit, light, camera):
    """(error in mm, whether the truth lies inside the interval) of each dimension of the plate."""
    told = []
    for pair in DIMENSIONS:
        edges = _edges(light, camera, np.add(pair, PART_AT))
        picks = [_onto_true_edge(camera, edge, place) for edge, place in zip(edges, np.add(pair, PART_AT))]
        truth = math.dist(*camera_inverse(camera, picks))
        read, u95 = fit.distance(*((edge.x, edge.y) for edge in edges), max(edge.sigma_px for edge in edges))
        told.append((read - truth, abs(read - truth) <= u95))
    return told


def _onto_true_edge(camera, edge, place):
    """The pick as it should have been: on the true edge, as far along it as the pick was taken."""
    true = camera.to_px([place])[0]
    normal = np.array(edge.normal)
    pick = np.array([edge.x, edge.y])
    return pick - float(np.dot(pick - true, normal)) * normal


def camera_inverse(camera, pixels):
    """Places on the plane of given pixels, by Newton steps on the true camera."""
    places = []
    for pixel in np.asarray(pixels, float):
        place = np.array(camera.target, float)
        for _ in range(12):
            here = camera.to_px([place, place + (1e-3, 0), place + (0, 1e-3)])
            matrix = np.column_stack([here[1] - here[0], here[2] - here[0]]) / 1e-3
            place = place + np.linalg.solve(matrix, pixel - here[0])
        places.append(place)
    return places


def _card_shot(random, tilt):
    camera = Pinhole(SIZE, tilt=tilt, turn=random.uniform(0, 6.28))
    width, height = np.add((85.60, 53.98), random.normal(0, CARD_SIGMA_MM, 2))
    card = rounded_polygon([(0, 0), (width, 0), (width, height), (0, height)], [3.18] * 4)
    data = shoot_beside_card(
        camera,
        parts.latch_plate(),
        part_at=PART_AT,
        card_at=(15, 100),
        card=(card,),
        blur_px=random.uniform(0.6, 1.5),
        noise=random.uniform(0.004, 0.015),
        seed=int(tilt * 10),
    )
    light = decode(data)
    found = find_rectangle(light, "card")
    # A card off its nominal size is the same as a nominal size off the card's: so one shot serves for several cards.
    cards = [
        attrs.evolve(found, width_mm=width + off[0], height_mm=height + off[1])
        for off in random.normal(0, CARD_SIGMA_MM, (READINGS, 2))
    ]
    return camera, light, [choose_model(SIZE, rectangles=[card]) for card in cards]


def _sheet_shot(random, tilt, bend):
    camera = Pinhole(SIZE, tilt=tilt, turn=random.uniform(-0.3, 0.3), bend=bend, height=330.0)
    at = (-25.0, -10.0)
    corners = np.add([(0, SHEET_MM[1]), SHEET_MM, (SHEET_MM[0], 0), (0, 0)], at)
    sheet = rounded_polygon([(0, 0), (SHEET_MM[0], 0), SHEET_MM, (0, SHEET_MM[1])], [0] * 4)
    data = shoot_beside_card(
        camera,
        parts.latch_plate(),
        part_at=PART_AT,
        card_at=at,
        card=(sheet,),
        blur_px=random.uniform(0.6, 1.5),
        noise=random.uniform(0.004, 0.015),
        seed=int(tilt * 7) + 100,
    )
    light = decode(data)
    rough = camera.to_px(corners) + random.normal(0, 1.5, (4, 2))
    found = rectangle_from_corners(light, "Sheet", rough, SHEET_MM, 0.05)
    readings = np.add(SHEET_MM, random.normal(0, 0.025, (READINGS, 2)))
    fits = [
        choose_model(SIZE, rectangles=[attrs.evolve(found, width_mm=width, height_mm=height)])
        for width, height in readings
    ]
    return camera, light, fits


def _length_shot(random, model):
    squash = 1.0 if model == "similarity" else random.uniform(0.985, 1.015)
    turn = random.uniform(0, 6.28) if model != "x and y scale" else 0.0
    camera = Pinhole(SIZE, turn=turn, squash=squash)
    light = decode(
        shoot_beside_card(
            camera,
            parts.latch_plate(),
            part_at=PART_AT,
            card_at=(15, 100),
            card=(CARD,),
            blur_px=random.uniform(0.6, 1.5),
            noise=random.uniform(0.004, 0.015),
            seed=int(random.integers(1e6)),
        )
    )
    pairs = (
        ((15, 127), (100.6, 127)),
        ((50, 100), (50, 153.98)),
        ((15, 110), (100.6, 150)),
        ((20, 36), (104, 36)),
        ((45, 20), (45, 66)),
        ((15, 140), (100.6, 112)),
    )
    count = {"similarity": 2, "x and y scale": 4, "affine": 6}[model]
    seen = []
    for pair in pairs[:count]:
        edges = _edges(light, camera, pair)
        true = math.dist(
            *camera_inverse(camera, [_onto_true_edge(camera, edge, place) for edge, place in zip(edges, pair)])
        )
        seen.append(([(edge.x, edge.y) for edge in edges], true, max(edge.sigma_px for edge in edges)))
    fits = [
        fit_plane(
            model,
            SIZE,
            lengths=[
                KnownLength("L", *picks, true + random.normal(0, GAUGE_SIGMA_MM), sigma_px=sigma)
                for picks, true, sigma in seen
            ],
        )
        for _ in range(READINGS)
    ]
    return camera, light, fits


def run():
    """All shots, model by model; prints each model's mean and worst error and coverage."""
    random = np.random.default_rng(2026)
    worst, coverage = {}, {}
    for kind, shots in SHOTS.items():
        told = []
        for index in range(shots):
            tilt = 25.0 * index / max(shots - 1, 1)
            if kind == "card":
                camera, light, fits = _card_shot(random, tilt)
            elif kind in ("sheet", "distorted"):
                camera, light, fits = _sheet_shot(
                    random, 0.8 * tilt, random.uniform(0.02, 0.05) if kind == "distorted" else 0.0
                )
            else:
                camera, light, fits = _length_shot(random, kind)
            told += [one for fit in fits for one in _errors(fit, light, camera)]
        errors = np.abs([error for error, _ in told])
        worst[kind] = 100 * errors.max() / PART_MM
        coverage[kind] = 100 * float(np.mean([inside for _, inside in told]))
        print(
            f"{kind:>14}: {shots} shots, mean error {errors.mean():.4f} mm, worst {errors.max():.4f} mm, coverage "
            f"{coverage[kind]:.1f} %",
            flush=True,
        )
    figures = [
        ("card_worst_percent", worst["card"], 0.2, "percent of the part's size; card found by itself, tilt 0 to 25°"),
        ("sheet_worst_percent", worst["sheet"], 0.2, "the same, sheet of measured size under the part"),
        ("distorted_worst_percent", worst["distorted"], 0.2, "the same with a bent lens, straightened by its edges"),
        ("coverage_percent_min", min(coverage.values()), 92.0, "least over the models, to lie between 92 and 98"),
        ("coverage_percent_max", max(coverage.values()), 98.0, "most over the models"),
        ("preview_ms_p95", cleaning_ms(), 150.0, "clean-up slider moved to preview received, 12 megapixels"),
    ]
    return [
        {"name": name, "value": value, "reach": reach, "against": against} for name, value, reach, against in figures
    ]
