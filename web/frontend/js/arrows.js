// Dimension lines after ISO 129: extension lines, arrow heads, the value above the line; in screen pixels.

import { shape } from "./board.js";

const HEAD = 9;
const GAP = 4;

/** @param {number[]} tip @param {number[]} way unit direction of pointing */
export function head(tip, way) {
  const [x, y] = tip;
  const [u, v] = way;
  const back = [x - u * HEAD, y - v * HEAD];
  return shape("path", {
    class: "head",
    d: `M${x} ${y}L${back[0] - v * 1.9} ${back[1] + u * 1.9}L${back[0] + v * 1.9} ${back[1] - u * 1.9}Z`,
  });
}

const line = (a, b) => shape("line", { x1: a[0], y1: a[1], x2: b[0], y2: b[1] });

/** A value that reads from below or from the right. */
function value(text, place, angle) {
  let degrees = (angle * 180) / Math.PI;
  if (degrees >= 89.99) degrees -= 180;
  if (degrees < -90.01) degrees += 180;
  return shape("text", { x: place[0], y: place[1] - 4, transform: `rotate(${degrees} ${place[0]} ${place[1]})` }, text);
}

/** A straight dimension between two screen places, shifted sideways. @returns {SVGElement[]} */
export function straight(first, second, way, shift, text) {
  const side = [way[1], -way[0]];
  const along = (p) => p[0] * way[0] + p[1] * way[1];
  const across = (p) => p[0] * side[0] + p[1] * side[1];
  const level =
    shift >= 0 ? Math.max(across(first), across(second)) + shift : Math.min(across(first), across(second)) + shift;
  const foot = (p) => [way[0] * along(p) + side[0] * level, way[1] * along(p) + side[1] * level];
  const [a, b] = [foot(first), foot(second)];
  const sense = Math.sign(along(second) - along(first)) || 1;
  const beyond = (p) => {
    const s = Math.sign(level - across(p)) || 1;
    return [
      [p[0] + side[0] * GAP * s, p[1] + side[1] * GAP * s],
      foot([p[0] + 0, p[1] + 0]).map((v, i) => v + side[i] * 6 * s),
    ];
  };
  const size = Math.hypot(b[0] - a[0], b[1] - a[1]);
  const unitWay = [way[0] * sense, way[1] * sense];
  const inside = size > 26;
  const heads = inside
    ? [head(a, [-unitWay[0], -unitWay[1]]), head(b, unitWay)]
    : [head(a, unitWay), head(b, [-unitWay[0], -unitWay[1]])];
  const out = inside
    ? []
    : [
        line([a[0] - unitWay[0] * 20, a[1] - unitWay[1] * 20], a),
        line(b, [b[0] + unitWay[0] * 20, b[1] + unitWay[1] * 20]),
      ];
  const middle = [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2];
  return [
    line(...beyond(first)),
    line(...beyond(second)),
    line(a, b),
    ...out,
    ...heads,
    value(text, middle, Math.atan2(way[1], way[0])),
  ];
}

/** A radius or diameter: a leader that points at the rim. */
export function round(center, radius, angle, text, reach = 34) {
  const way = [Math.cos(angle), -Math.sin(angle)];
  const rim = [center[0] + way[0] * radius, center[1] + way[1] * radius];
  const knee = [rim[0] + way[0] * reach, rim[1] + way[1] * reach];
  const sense = way[0] >= 0 ? 1 : -1;
  const width = text.length * 7.4 + 8;
  const end = [knee[0] + sense * width, knee[1]];
  return [
    line(rim, knee),
    line(knee, end),
    head(rim, [-way[0], -way[1]]),
    shape("text", { x: (knee[0] + end[0]) / 2, y: knee[1] - 4 }, text),
  ];
}

/** An angle between two directions at a corner. */
export function corner(center, angles, text, radius = 46) {
  const [first, last] = angles;
  let sweep = Math.atan2(Math.sin(last - first), Math.cos(last - first));
  const at = (angle, r = radius) => [center[0] + Math.cos(angle) * r, center[1] - Math.sin(angle) * r];
  const [a, b] = [at(first), at(first + sweep)];
  const tip = (angle, sense) => head(at(angle), [-Math.sin(angle) * sense, -Math.cos(angle) * sense]);
  const sense = Math.sign(sweep) || 1;
  return [
    shape("path", { d: `M${a[0]} ${a[1]}A${radius} ${radius} 0 0 ${sense > 0 ? 0 : 1} ${b[0]} ${b[1]}` }),
    tip(first, -sense),
    tip(first + sweep, sense),
    shape("text", { x: at(first + sweep / 2, radius + 20)[0], y: at(first + sweep / 2, radius + 20)[1] }, text),
  ];
}
