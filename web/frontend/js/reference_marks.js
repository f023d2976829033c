// What the Reference Board draws over the picture: known lengths, round and straight edges, rectangles, checks, picks.

import { shape } from "./board.js";
import { straight } from "./arrows.js";
import { unit } from "./talk.js";

const READ_DIGITS = { mm: 2, in: 4 };

/** A length as shown. @param {number} mm */
export const format = (mm) => (unit === "in" ? mm / 25.4 : mm).toFixed(READ_DIGITS[unit]);

/** @param {{ board: import("./board.js").Board, pose: () => ReturnType<typeof import("./pose.js").poseOf> }} parts */
export function createMarks({ board, pose }) {
  const onScreen = (place) => board.toScreen(pose().toWorld(place));

  /** A pick: a ring with a cross hair. */
  function pick(place, { loose = false, selected = false, data = {} } = {}) {
    const [x, y] = onScreen(place);
    const group = shape("g", data);
    group.append(
      shape("circle", { class: `pick${loose ? " loose" : ""}${selected ? " sel" : ""}`, cx: x, cy: y, r: 6 }),
      shape("path", {
        class: `pick${selected ? " sel" : ""}`,
        d: `M${x - 11} ${y}H${x - 3}M${x + 3} ${y}H${x + 11}M${x} ${y - 11}V${y - 3}M${x} ${y + 3}V${y + 11}`,
      }),
    );
    return group;
  }

  function line(places, closed) {
    const d = places
      .map((place) =>
        onScreen(place)
          .map((value) => value.toFixed(1))
          .join(" "),
      )
      .join("L");
    return shape("path", { d: `M${d}${closed ? "Z" : ""}` });
  }

  function words(text, place, shift = [0, -8]) {
    const [x, y] = onScreen(place);
    return shape("text", { x: x + shift[0], y: y + shift[1] }, text);
  }

  /** Places around an ellipse in picture pixels. */
  function ellipse({ center, half_axes: [a, b], angle }) {
    const [cos, sin] = [Math.cos(angle), Math.sin(angle)];
    return Array.from({ length: 72 }, (_, index) => {
      const turn = (index / 72) * 2 * Math.PI;
      const [u, v] = [a * Math.cos(turn), b * Math.sin(turn)];
      return [center[0] + cos * u - sin * v, center[1] + sin * u + cos * v];
    });
  }

  function length(first, second, text) {
    const [a, b] = [onScreen(first), onScreen(second)];
    const size = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1;
    return straight(a, b, [(b[0] - a[0]) / size, (b[1] - a[1]) / size], 26, text);
  }

  const middle = (places) => [0, 1].map((axis) => places.reduce((sum, place) => sum + place[axis], 0) / places.length);

  function reading(item) {
    if (item.read === undefined) return item.name;
    if (item.what === "angle")
      return `${((item.read * 180) / Math.PI).toFixed(2)}° ±${((item.u95 * 180) / Math.PI).toFixed(2)}°`;
    return `${format(item.read)} ±${format(item.u95)}`;
  }

  const DRAW = {
    length: (item) => length(item.start, item.end, format(item.mm)),
    diameter: (item) => [line(ellipse(item), true), words(`⌀ ${format(item.mm)}`, item.center, [0, 4])],
    rectangle: (item) => [
      line(item.outline ?? item.corners, true),
      words(`${item.name} ${format(item.width_mm)} × ${format(item.height_mm)}`, middle(item.corners), [0, 4]),
    ],
    straight: (item) => [line(item.places, false), words(item.name, item.places[Math.floor(item.places.length / 2)])],
    resolution: () => [],
    check: (item) => {
      if (item.what === "angle")
        return [
          line([item.places[1], item.places[0], item.places[2]], false),
          words(reading(item), item.places[0], [34, 18]),
        ];
      if (item.what === "diameter") return [...length(item.places[0], item.places[1], `⌀ ${reading(item)}`)];
      return length(item.places[0], item.places[1], reading(item));
    },
  };

  /** Everything known of the picture. @param {any[]} known @param {{ id: string, which: string }|null} chosen */
  function known(known, chosen) {
    return known.map((item) => {
      const group = shape("g", {
        class: `known${item.kind === "check" ? " check" : ""}${item.used ? "" : " out"}`,
        "data-known": item.id,
      });
      group.append(...DRAW[item.kind](item));
      if (item.kind === "length")
        for (const which of ["start", "end"]) {
          group.append(
            pick(item[which], {
              selected: chosen?.id === item.id && chosen.which === which,
              data: { "data-which": which },
            }),
          );
        }
      if (item.kind === "rectangle")
        item.corners.forEach((corner, which) =>
          group.append(
            pick(corner, {
              selected: chosen?.id === item.id && chosen.which === String(which),
              data: { "data-which": String(which) },
            }),
          ),
        );
      return group;
    });
  }

  /** What was found for a tool and waits for its size. @param {any} found */
  function waiting(found) {
    const group = shape("g", { class: "known" });
    if (found.corners) group.append(line(found.corners, true));
    if (found.half_axes) group.append(line(ellipse(found), true));
    if (found.start) group.append(...length(found.start, found.end, "measure this"));
    return group;
  }

  return { pick, known, waiting, line, onScreen };
}
