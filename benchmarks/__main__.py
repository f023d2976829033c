"""``./nomogon bench NAME [--json FILE] [--seed N]``"""

import argparse
import importlib
import json
import sys
from pathlib import Path

NAMES = ("slice", "calibration", "trace", "unseen", "job", "running", "sketch", "solid", "marks", "inspect")
MODULES = {"inspect": "inspecting"}
SEEDED = ("unseen", "job", "running", "sketch", "solid", "marks", "inspect")


def main(arguments):
    parser = argparse.ArgumentParser(prog="./nomogon bench")
    parser.add_argument("name", choices=NAMES)
    parser.add_argument("--json", metavar="FILE")
    parser.add_argument("--seed", type=int, help="of what is drawn at random; a fresh one by default")
    options = parser.parse_args(arguments)
    bench = importlib.import_module(f"benchmarks.{MODULES.get(options.name, options.name)}")
    rows = bench.run(options.seed) if options.name in SEEDED else bench.run()
    width = max(len(row["name"]) for row in rows)
    print(f"{'figure':<{width}}  {'measured':>10}  {'to reach':>10}  against")
    for row in rows:
        reach = f"{row['reach']:g}" if row["reach"] is not None else ""
        print(f"{row['name']:<{width}}  {row['value']:>10.3f}  {reach:>10}  {row['against']}")
    if options.json:
        Path(options.json).write_text(json.dumps({row["name"]: row["value"] for row in rows}, indent=1))
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
