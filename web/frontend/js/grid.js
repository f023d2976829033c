// A grid on the Board whose crossings catch the pointer; its step follows the zoom.

import { roundStep, shape } from "./board.js";

const STEP_PX = 14;
const CATCH_SHARE = 0.5;

/** The grid's step in millimetres at a zoom, round in the unit that is read. @param {number} zoom @param {number} scale */
export const stepAt = (zoom, scale) => roundStep((STEP_PX / zoom) * scale) / scale;

/** The crossing nearest to a place. @param {number[]} place @param {number} step */
export const crossingNear = ([x, y], step) => [Math.round(x / step) * step, Math.round(y / step) * step];

/** @param {import("./board.js").Board} board */
export function createGrid(board) {
  const layer = shape("path", { class: "crossings" });
  board.screen.before(layer);
  let on = sessionStorage.getItem("grid") === "on";

  function draw() {
    const step = stepAt(board.view.zoom, board.ruler.scale);
    const [width, height] = board.size;
    const [left, top] = crossingNear(board.toWorld([0, 0]), step);
    const [right, low] = board.toWorld([width, height]);
    const parts = [];
    for (let x = left; on && x <= right + step; x += step)
      for (let y = top; y >= low - step; y -= step) {
        const [u, v] = board.toScreen([x, y]);
        parts.push(`M${u.toFixed(1)} ${v.toFixed(1)}h.01`);
      }
    layer.setAttribute("d", parts.join(""));
  }

  board.onView(draw);
  return {
    toggle() {
      on = !on;
      sessionStorage.setItem("grid", on ? "on" : "off");
      draw();
      return on;
    },
    /** The crossing that catches a place, or null while the grid is off. @param {number[]} place */
    catches(place) {
      if (!on) return null;
      const step = stepAt(board.view.zoom, board.ruler.scale);
      const found = crossingNear(place, step);
      return Math.hypot(found[0] - place[0], found[1] - place[1]) <= step * CATCH_SHARE * Math.SQRT2 ? found : null;
    },
    draw,
  };
}
