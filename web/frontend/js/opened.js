// Which sketch is open, opening another or a new one, and the solid behind it.

import { address, command, openSketch, send } from "./talk.js";
import { unpack } from "./mesh.js";

const chooser = document.getElementById("opened");
const NEAR = 1e-6;
const AGAIN_MS = 300;

/** Edges of the solid seen along the normal of a plane, each as path data. @param {any[]} bodies @param {any} solid */
function projected(bodies, { frame: { origin, across, up }, before }) {
  const isBefore = (edge) => [...edge.matchAll(/\bop\d+(?=\.)/g)].every(([step]) => before.includes(step));
  const along = (point, way) =>
    (point[0] - origin[0]) * way[0] + (point[1] - origin[1]) * way[1] + (point[2] - origin[2]) * way[2];
  const found = [];
  for (const body of bodies) {
    for (let edge = 0; edge < body.edges.length; edge++) {
      const parts = [];
      let last = null;
      for (let index = body.edge_starts[edge]; index < body.edge_starts[edge + 1]; index++) {
        const point = body.edge_points.subarray(3 * index, 3 * index + 3);
        const at = [along(point, across), along(point, up)];
        if (last && Math.hypot(at[0] - last[0], at[1] - last[1]) < NEAR) continue;
        parts.push(`${last ? "L" : "M"}${at[0].toFixed(4)} ${at[1].toFixed(4)}`);
        last = at;
      }
      if (parts.length > 1)
        found.push({
          body: body.name,
          edge: body.edges[edge],
          d: parts.join(""),
          smooth: body.smooth[edge],
          canCome: isBefore(body.edges[edge]),
        });
    }
  }
  return found;
}

/** @param {ReturnType<typeof import("./sketch_drawing.js").createDrawing>} drawing */
export function startOpened(drawing) {
  let shown = "";

  async function behind(solid) {
    const key = solid ? `${solid.mesh} ${JSON.stringify(solid.frame)}` : "";
    if (!solid || key === shown) return;
    shown = key;
    const response = await fetch(address(`solid/mesh/${solid.mesh}`));
    if (response.ok && key === shown) drawing.setBehind(projected(unpack(await response.arrayBuffer()), solid));
  }

  chooser.addEventListener("change", async () => {
    const [what, id] = [chooser.value.slice(0, 1), chooser.value.slice(1)];
    if (what === "s") return openSketch(id);
    const done = await command("sketch.new", { plane: id });
    if (done) window.location.assign(address("sketch"));
    else show(last);
  });

  let last = null;
  function show(state) {
    last = state;
    const open = state.sketches.map(
      (one) => new Option(`${one.title}, on ${one.plane}`, `s${one.id}`, false, one.id === state.open),
    );
    const fresh = document.createElement("optgroup");
    fresh.label = "A new sketch on";
    fresh.append(...state.planes.map(([id, words]) => new Option(words, `n${id}`)));
    chooser.replaceChildren(...open, fresh);
    state.solid ? behind(state.solid) : later();
  }

  let waiting = false;
  /** The solid is still being built: it is asked for again until it is there. */
  async function later() {
    if (waiting) return;
    waiting = true;
    const { solid, building } = await send("sketch/solid", {}).catch(() => ({}));
    waiting = false;
    if (solid) behind(solid);
    else if (building) setTimeout(later, AGAIN_MS);
  }
  return { show };
}
