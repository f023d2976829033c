"""The Build sheet as a page writes it."""

from nomogon_core.job.places import plane_words
from nomogon_core.solid.facts import DENSITIES
from stages.solid import sentences

LEAST_TOLD_MM3 = 0.5


def sheet_context(here, view, unit, until=None):
    """Build sheet: each step as a line with its state, and the bodies at its foot.

    Args:
        until: the step that it is built to, None for all.
    """
    document = here.document
    last = document["steps"].index(until) if until in document["steps"] else len(document["steps"])
    steps = {step["name"]: step for step in (view.result or {}).get("steps", [])}
    operations = {operation.name: operation for operation in view.build.operations}
    lines, number, before, gone = [], 0, {}, {}
    for place, name in enumerate(document["steps"]):
        step = steps.get(name, {})
        line = {
            "id": name,
            "problem": step.get("problem", ""),
            "first": place == 0,
            "last": place == len(document["steps"]) - 1,
            "later": place > last,
            "until": place == last,
        }
        if name in operations:
            number += 1
            operation = operations[name]
            words, offers = sentences.words(document, operation, unit, step.get("numbers", {}))
            suggestion = {blank: f"{value:.2f} mm" for blank, value in (step.get("suggestion") or {}).items()}
            line |= {
                "number": number,
                "operation": operation,
                "words": words,
                "offers": offers,
                "suggestion": suggestion,
                "told": None if not step or step["problem"] or operation.suppressed else told_of(before, step["facts"]),
            }
            gone |= dict.fromkeys(before.keys() - step.get("facts", before).keys(), number)
        elif name in document["sketches"]:
            sketch = document["sketches"][name]
            line |= {"sketch": sketch, "on": plane_words(document, sketch["plane"]), "open": name == here.sketch_id}
        else:
            line |= {"plane": sentences.plane_sentence(document, document["planes"][name], unit)}
        before = step.get("facts", before)
        lines.append(line)
    return {
        "lines": lines,
        "built": sum(
            1 for name in operations if steps.get(name) and not steps[name]["problem"] and not steps[name]["suppressed"]
        ),
        "until": last < len(document["steps"]),
        "failed": sum(1 for step in steps.values() if step["problem"]),
        "left_out": sum(1 for operation in operations.values() if operation.suppressed),
        "job": here.job,
        "unit": unit,
        "materials": list(DENSITIES),
        "bodies": _bodies(document, view.result, gone),
    }


def told_of(before, after):
    """What a step changed: the volume that came or went, and a body that is in pieces; None where nothing did."""
    volumes = [sum(facts["volume_mm3"] for facts in bodies.values()) for bodies in (before, after)]
    changed = volumes[1] - volumes[0]
    pieces = [
        facts["solids"]
        for name, facts in after.items()
        if facts["solids"] > 1 and before.get(name, {}).get("solids", 1) != facts["solids"]
    ]
    if pieces:
        return {"bad": True, "text": f"falls into {pieces[0]} pieces"}
    if before and before == after:
        return {"bad": True, "text": "changes nothing"}
    if abs(changed) < LEAST_TOLD_MM3:
        return None
    sign = "+" if changed > 0 else "\N{MINUS SIGN}"
    return {"bad": False, "text": f"{sign}{abs(changed) / 1000:.3f} cm³"}


def _bodies(document, result, gone):
    """The bodies of the foot; gone: the number of the operation that each body went into."""
    built = (result or {}).get("bodies", {})
    rows = []
    for name, body in document["bodies"].items():
        if name in built:
            volume = f"{built[name]['volume_mm3'] / 1000:.3f} cm³"
        else:
            volume = f"went into {gone[name]}" if name in gone else "not built"
        rows.append({"id": name, **body, "volume": volume})
    return rows
