"""The Build sheet as a page writes it."""

from nomogon_core.job.places import plane_words
from nomogon_core.solid.facts import DENSITIES
from stages.solid import sentences


def sheet_context(here, view, unit):
    """Build sheet: each step as a line with its state, and the bodies at its foot."""
    document = here.document
    steps = {step["name"]: step for step in (view.result or {}).get("steps", [])}
    operations = {operation.name: operation for operation in view.build.operations}
    lines, number = [], 0
    for place, name in enumerate(document["steps"]):
        step = steps.get(name, {})
        line = {
            "id": name,
            "problem": step.get("problem", ""),
            "first": place == 0,
            "last": place == len(document["steps"]) - 1,
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
            }
        elif name in document["sketches"]:
            sketch = document["sketches"][name]
            line |= {"sketch": sketch, "on": plane_words(document, sketch["plane"]), "open": name == here.sketch_id}
        else:
            line |= {"plane": sentences.plane_sentence(document, document["planes"][name], unit)}
        lines.append(line)
    return {
        "lines": lines,
        "built": sum(
            1 for name in operations if steps.get(name) and not steps[name]["problem"] and not steps[name]["suppressed"]
        ),
        "failed": sum(1 for step in steps.values() if step["problem"]),
        "left_out": sum(1 for operation in operations.values() if operation.suppressed),
        "job": here.job,
        "unit": unit,
        "materials": list(DENSITIES),
        "bodies": _bodies(document, view.result),
    }


def _bodies(document, result):
    built = (result or {}).get("bodies", {})
    return [
        {"id": name, **body, "volume": f"{built[name]['volume_mm3'] / 1000:.3f} cm³" if name in built else "not built"}
        for name, body in document["bodies"].items()
    ]
