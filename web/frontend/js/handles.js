// Handles of what a sentence would put into the sketch: hold it to move, size, turn and mirror it; the blanks are written.

import { shape } from "./board.js";
import { followDrag } from "./gestures.js";

const OUT_PX = 34;
const ARM_PX = 26;
const NEAR_PX = 10;
const STEP_PX = 3;
const FINE_MM = 0.01;

/**
 * How something would lie, as the server tells it.
 * @typedef {{ about: number[], corners: number[][], turn: number, mirrored: boolean, blanks: Record<string, string>,
 *   size: number, points: number[][][] }} Lying
 */

const plus = (a, b, times = 1) => [a[0] + times * b[0], a[1] + times * b[1]];
const minus = (a, b) => [a[0] - b[0], a[1] - b[1]];
const size = (a) => Math.hypot(a[0], a[1]);
const angle = (a) => Math.atan2(a[1], a[0]);

/** Without zeros that say nothing. @param {number} value @param {number} digits */
const plain = (value, digits) => String(Number(value.toFixed(digits)));

/**
 * @param {{ board: any, caught: (place: number[], off: boolean) => any, unit: string, value: (blank: string) => any,
 *   write: (blank: string, value: any) => void, done: () => void }} hooks `value` is what stands in a blank, `write` fills it.
 */
export function createHandles({ board, caught, unit, value, write, done }) {
  const group = shape("g", { class: "handles" });
  /** @type {Lying | null} */
  let lies = null;
  /** While a handle is held: which one, how it lay, and how it lies now. @type {any} */
  let held = null;
  let used = false;

  /** A length as it is typed, no finer than a pixel shows unless asked for. @param {number} mm @param {boolean} fine */
  function length(mm, fine) {
    const step = fine ? FINE_MM : 10 ** Math.floor(Math.log10(Math.max(STEP_PX / board.view.zoom, FINE_MM)));
    if (unit === "in") return `${plain(mm / 25.4, fine ? 4 : 3)} in`;
    return `${plain(Math.max(Math.round(mm / step) * step, step), 2)} mm`;
  }

  /** The corner to size it by: the one farthest from what stays. @param {Lying} one */
  const far = (one) =>
    one.corners.reduce(
      (best, corner) => (size(minus(corner, one.about)) > size(minus(best, one.about)) + 1e-9 ? corner : best),
      one.corners[2],
    );

  /** How it would lie after a drag, and what that writes. */
  function changed({ which, was, from, to }, event) {
    const [then, now] = [minus(from, was.about), minus(to, was.about)];
    if (which === "move") {
      const about = plus(was.about, minus(to, from));
      const point = caught(about, event.altKey);
      const place = point ? [point.x, point.y] : about;
      const by = minus(place, was.about);
      const next = { ...was, about: place, corners: was.corners.map((corner) => plus(corner, by)) };
      return [next, point ? point.id : place];
    }
    const round = (matrix) => ({
      ...was,
      corners: was.corners.map((corner) => {
        const [x, y] = minus(corner, was.about);
        return plus(was.about, [matrix[0] * x - matrix[1] * y, matrix[1] * x + matrix[0] * y]);
      }),
    });
    if (which === "size") {
      const factor = Math.max((now[0] * then[0] + now[1] * then[1]) / (then[0] ** 2 + then[1] ** 2), 1e-3);
      const typed = length(was.size * factor, event.altKey);
      const next = parseFloat(typed) * (unit === "in" ? 25.4 : 1);
      return [{ ...round([next / was.size, 0]), size: next }, typed];
    }
    const turned = ((was.turn + angle(now) - angle(then)) * 180) / Math.PI;
    const degrees = plain((((turned % 360) + 540) % 360) - 180, event.altKey ? 2 : 0);
    const by = (Number(degrees) * Math.PI) / 180 - was.turn;
    return [{ ...round([Math.cos(by), Math.sin(by)]), turn: was.turn + by }, `${degrees}°`];
  }

  function draw() {
    const one = held?.now ?? lies;
    const parts = [];
    if (one) {
      const about = board.toScreen(one.about);
      if (one.corners.length) parts.push(...drawBox(one));
      const [x, y] = about;
      parts.push(
        shape("path", { d: `M${x - 12} ${y}H${x + 12}M${x} ${y - 12}V${y + 12}` }),
        knob(about, 8, "move", "Drag to move it."),
      );
      const picked = [value("first"), value("second")].map(String);
      for (const [own, there] of held ? [] : one.points) {
        const [cx, cy] = board.toScreen(there);
        const sel = picked.includes(String(own));
        parts.push(shape("circle", { class: `own-point${sel ? " sel" : ""}`, cx, cy, r: sel ? 5 : 3 }));
      }
    }
    group.replaceChildren(...parts);
  }

  function drawBox(one) {
    const there = one.corners.map((corner) => board.toScreen(corner));
    const sense = one.mirrored ? -1 : 1;
    const across = [Math.cos(one.turn), -Math.sin(one.turn)];
    const up = [-Math.sin(one.turn), -Math.cos(one.turn)];
    const [right, over] = [
      [1, 2],
      [2, 3],
    ].map(([a, b]) => [(there[a][0] + there[b][0]) / 2, (there[a][1] + there[b][1]) / 2]);
    const side = sense > 0 ? right : [(there[0][0] + there[3][0]) / 2, (there[0][1] + there[3][1]) / 2];
    const arm = plus(side, across, OUT_PX);
    const parts = [
      shape("path", { class: "box", d: `M${there.map((place) => place.join(" ")).join("L")}Z` }),
      shape("path", { d: `M${side.join(" ")}L${arm.join(" ")}` }),
    ];
    if (one.blanks.flip) {
      const end = plus(over, up, ARM_PX);
      const low = plus([(there[0][0] + there[1][0]) / 2, (there[0][1] + there[1][1]) / 2], up, -10);
      parts.push(
        shape("path", { class: "axis", d: `M${low.join(" ")}L${end.join(" ")}` }),
        knob(end, 6, "flip", "Click to mirror it about this line."),
      );
    }
    parts.push(knob(board.toScreen(far(one)), 6, "size", "Drag to size it."), knob(arm, 6, "turn", "Drag to turn it."));
    return parts;
  }

  /** @param {number[]} place @param {number} r @param {string} which @param {string} says */
  function knob([cx, cy], r, which, says) {
    const circle = shape("circle", { cx, cy, r, "data-handle": which });
    circle.append(shape("title", {}, says));
    return circle;
  }

  followDrag(board.svg, {
    begin(event) {
      used = false;
      const which = event.button === 0 && lies && event.target.dataset?.handle;
      if (!which) return null;
      const from = board.at(event);
      return (held = { which, was: lies, now: lies, from, to: from });
    },
    move(mine, event) {
      if (mine.which === "flip") return;
      mine.to = board.at(event);
      const [now, told] = changed(mine, event);
      mine.now = now;
      write(mine.was.blanks[mine.which], told);
      draw();
    },
    end(mine, _, moved) {
      used = true;
      if (mine.which === "flip" && !moved) write(mine.was.blanks.flip, mine.was.mirrored ? "same" : "mirrored");
      lies = mine.now;
      held = null;
      done();
      draw();
    },
    cancel() {
      held = null;
      draw();
    },
    still: 2,
  });
  board.onView(draw);

  return {
    group,
    /** How what would be put in lies, or null for nothing. @param {Lying | null} found */
    show(found) {
      lies = found;
      if (!held) draw();
    },
    /** The drawing's own point nearest to a place, if one is near. @param {number[]} place */
    own(place) {
      const at = board.toScreen(place);
      let [best, least] = [null, NEAR_PX];
      for (const [own, there] of lies?.points ?? []) {
        const away = size(minus(board.toScreen(there), at));
        if (away < least) [best, least] = [own, away];
      }
      return best;
    },
    /** Whether a click only let go of a handle; told once. */
    letGo() {
      const was = used;
      used = false;
      return was;
    },
  };
}
