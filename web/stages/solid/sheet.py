"""The Build sheet as a page writes it."""

from nomogon_core.job.places import plane_words
from nomogon_core.solid.facts import DENSITIES, change_between
from nomogon_core.solid.operations import typed
from stages.solid import sentences


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
    groups = {step: name for name, group in document["groups"].items() for step in group["steps"]}
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
            change = change_between(before, step.get("facts", before), view.build.apart)
            words, offers = sentences.words(document, operation, unit, step.get("numbers", {}))
            suggestion = {
                blank: typed(operation.kind, blank, value) for blank, value in (step.get("suggestion") or {}).items()
            }
            line |= {
                "number": number,
                "operation": operation,
                "words": words,
                "offers": offers,
                "suggestion": suggestion,
                "told": None if not step or step["problem"] or operation.suppressed else _told(change),
            }
            gone |= dict.fromkeys(change.gone, number)
        elif name in document["sketches"]:
            sketch = document["sketches"][name]
            line |= {"sketch": sketch, "on": plane_words(document, sketch["plane"]), "open": name == here.sketch_id}
        else:
            line |= {"plane": sentences.plane_sentence(document, document["planes"][name], unit)}
        before = step.get("facts", before)
        line["group"] = groups.get(name)
        lines.append(line)
    _headed(lines, document["groups"])
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


def _headed(lines, groups):
    """Lines with the heading of their group, where it begins, and with whether they can leave or join one."""
    for line, above in zip(lines, [{}, *lines]):
        name = line["group"]
        line["may_join"] = name is None
        if name is None:
            continue
        mine = [one for one in lines if one["group"] == name]
        line["may_leave"] = line in (mine[0], mine[-1])
        if above.get("group") != name:
            operations = [one["operation"] for one in mine if "operation" in one]
            line["heading"] = {
                "id": name,
                "title": groups[name]["title"],
                "steps": len(mine),
                "failed": sum(1 for one in mine if one["problem"]),
                "off": bool(operations) and all(one.suppressed for one in operations),
                "operations": len(operations),
                "first": mine[0]["first"],
                "last": mine[-1]["last"],
            }


def _told(change):
    """What a step changed, in words; None where nothing is worth telling."""
    if change.pieces:
        return {"bad": True, "text": f"falls into {change.pieces} pieces"}
    if change.nothing:
        return {"bad": True, "text": "changes nothing"}
    if not change.volume_mm3:
        return None
    sign = "+" if change.volume_mm3 > 0 else "\N{MINUS SIGN}"
    return {"bad": False, "text": f"{sign}{abs(change.volume_mm3) / 1000:.3f} cm³"}


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
