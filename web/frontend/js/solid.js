// The Solid stage: the Build sheet and the turning view.

import { address, ask, command, mayChange, say, unit } from "./talk.js";
import { onChanged, onTyped, refresh, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { shape } from "./board.js";
import { createViewer, unpack } from "./viewer.js";
import { startLaying } from "./laying.js";

const element = document.getElementById("board");
const canvas = element.querySelector("canvas.solid");
const overlay = element.querySelector("svg.drawing");
const note = document.getElementById("note");
const sheet = document.getElementById("sheet");
const viewer = createViewer(canvas);
const cards = Object.fromEntries(["extrude", "hole", "fillet"].map((name) => [name, document.getElementById(name)]));
const RESTING = "Drag to turn, Shift drag to shift, the wheel comes closer. Take a tool to add an operation.";
const VIEWS = { "view-turned": [-0.55, 0.95], "view-top": [0, 0], "view-front": [0, Math.PI / 2], "view-right": [Math.PI / 2, Math.PI / 2], "view-bottom": [0, Math.PI] };

let state = { regions: [], centers: [], bodies: [], curves: [] };
let shownMesh = null;
let fitted = false;
let asked = 0;
const picked = { extrude: new Set(), hole: new Set(), fillet: new Map() };

async function load() {
  const mine = ++asked;
  const fresh = await ask("solid/state");
  if (mine !== asked) return;
  state = fresh;
  if (!sheet.contains(document.activeElement) || !document.activeElement.matches("input")) sheet.innerHTML = fresh.sheet;
  const busy = fresh.work && ["waiting", "running"].includes(fresh.work.status);
  document.getElementById("working").textContent = busy ? `building, ${fresh.work.seconds} s …` : "";
  if (fresh.work?.status === "failed") say(fresh.work.problem, true);
  if (fresh.mesh && fresh.mesh !== shownMesh) await showMesh(fresh.mesh);
  if (!fresh.mesh && !busy) {
    viewer.show([]);
    shownMesh = null;
  }
  if (!fitted) fit();
  laying.show(fresh);
  drawOverlay();
  if (busy) setTimeout(load, 80);
  else refresh();
}

async function showMesh(key) {
  const response = await fetch(address(`solid/mesh/${key}`));
  if (!response.ok) return;
  viewer.show(unpack(await response.arrayBuffer()));
  shownMesh = key;
  element.dataset.mesh = key;
}

function fit() {
  const places = state.regions.map((region) => region.inside);
  if (!state.bodies.length && !places.length) return viewer.fit();
  fitted = true;
  viewer.fit(regionBox());
}

function regionBox() {
  const numbers = state.curves.flatMap((curve) => [...curve.d.matchAll(/[MLC](-?[\d.]+) (-?[\d.]+)/g)].map((found) => [Number(found[1]), Number(found[2])]));
  if (!numbers.length) return undefined;
  const xs = numbers.map((place) => place[0]);
  const ys = numbers.map((place) => place[1]);
  return [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
}

/** The sketch on its base plane, drawn over the view by the plane's own matrix. */
function drawOverlay() {
  const [ox, oy] = viewer.toScreen([0, 0, 0]);
  const [ax, ay] = viewer.toScreen([1, 0, 0]);
  const [bx, by] = viewer.toScreen([0, 1, 0]);
  const group = shape("g", { transform: `matrix(${ax - ox} ${ay - oy} ${bx - ox} ${by - oy} ${ox} ${oy})` });
  const tool = tray.current();
  const showSketch = tool === "extrude" || tool === "hole" || !state.bodies.length;
  if (showSketch) {
    if (tool === "extrude") for (const region of state.regions) {
      const chosen = picked.extrude.has(region.name);
      const path = shape("path", { class: `region show${chosen ? " sel" : ""}`, d: region.d, "data-region": region.name, tabindex: 0, role: "checkbox", "aria-checked": String(chosen), "aria-label": `Region of ${region.area.toFixed(1)} square millimetres` });
      group.append(path);
    }
    for (const curve of state.curves) group.append(shape("path", { class: `curve${curve.construction ? " construction" : " free"}`, d: curve.d, "pointer-events": "none" }));
    if (tool === "hole") for (const center of state.centers) {
      const chosen = picked.hole.has(center.id);
      group.append(shape("circle", { class: `region show${chosen ? " sel" : ""}`, cx: center.place[0], cy: center.place[1], r: center.radius, "data-center": center.id, tabindex: 0, role: "checkbox", "aria-checked": String(chosen), "aria-label": "Circle of the sketch" }));
    }
  }
  overlay.toggleAttribute("hidden", !showSketch);
  overlay.classList.toggle("pointer-events-none", !(tool === "extrude" || tool === "hole"));
  overlay.replaceChildren(group);
  const { about, tip } = viewer.turn;
  const degrees = (value) => Math.round((value * 180) / Math.PI);
  note.textContent = `turned ${-degrees(about)}°, tipped ${degrees(tip)}°`;
}
viewer.onRender(drawOverlay);

function told() {
  const regions = picked.extrude.size;
  cards.extrude.querySelector("[data-chosen]").textContent = regions ? `${regions} region${regions > 1 ? "s" : ""} chosen.` : "Click a region on the Board.";
  cards.hole.querySelector("[data-chosen]").textContent = picked.hole.size ? `${picked.hole.size} centre${picked.hole.size > 1 ? "s" : ""} chosen.` : "Click circles of the sketch on the Board.";
  const edges = picked.fillet.size;
  cards.fillet.querySelector("[data-chosen]").textContent = cards.fillet.elements.rule.value ? `${cards.fillet.elements.rule.selectedOptions[0].text}.` : edges ? `${edges} edge${edges > 1 ? "s" : ""} chosen.` : "Click edges of the solid, or choose a rule.";
}

function openCard(name) {
  for (const [key, card] of Object.entries(cards)) card.hidden = key !== name;
  if (!name) return;
  for (const choice of cards[name].querySelectorAll("select[name=body]")) choice.replaceChildren(...state.bodies.map((body) => new Option(body, body)));
  if (name === "extrude" && state.bodies.length && cards.extrude.elements.mode.value === "new") {
    cards.extrude.elements.mode.value = "cut";
    cards.extrude.elements.body.value = state.bodies[0];
  }
  if (name === "extrude" && !picked.extrude.size && state.regions.length && !state.bodies.length) picked.extrude.add(state.regions[0].name);
  told();
}

const tray = startTray({
  resting: RESTING,
  take(name) {
    if (VIEWS[name]) {
      viewer.turnTo(...VIEWS[name]);
      return tray.release();
    }
    if (name === "fit") {
      viewer.fit(regionBox());
      return tray.release();
    }
    if (!mayChange) return say("You may look at this job but not change it.", true);
    openCard(name in cards ? name : null);
    if (name === "lay") laying.open();
    drawOverlay();
  },
  drop() {
    picked.extrude.clear();
    picked.hole.clear();
    picked.fillet.clear();
    viewer.choose([]);
    openCard(null);
    laying.close();
    drawOverlay();
  },
});
const laying = startLaying({ viewer, release: () => tray.release() });

overlay.addEventListener("click", (event) => {
  const { region, center } = event.target.dataset ?? {};
  if (region) picked.extrude.has(region) ? picked.extrude.delete(region) : picked.extrude.add(region);
  if (center) picked.hole.has(center) ? picked.hole.delete(center) : picked.hole.add(center);
  told();
  drawOverlay();
});
overlay.addEventListener("keydown", (event) => { if (event.key === " ") { event.preventDefault(); event.target.dispatchEvent(new MouseEvent("click", { bubbles: true })); } });

const SENDERS = {
  extrude(form) {
    const through = form.elements.through.checked;
    const lengths = through ? {} : { length: form.elements.namedItem("length").value, start: form.elements.start.value };
    return { kind: "extrude", lengths, unit, fields: { regions: [...picked.extrude], mode: through ? "cut" : form.elements.mode.value, body: form.elements.body.value.trim() || "Part", through } };
  },
  hole(form) {
    const through = form.elements.through.checked;
    const lengths = through ? { diameter: form.elements.diameter.value } : { diameter: form.elements.diameter.value, depth: form.elements.depth.value };
    return { kind: "hole", lengths, unit, fields: { centers: [...picked.hole], through, body: form.elements.body.value } };
  },
  fillet(form) {
    const rule = form.elements.rule.value;
    return { kind: "fillet", lengths: { radius: form.elements.radius.value }, unit, fields: { edges: rule ? [rule] : [...picked.fillet.keys()], body: [...picked.fillet.values()][0] ?? form.elements.body.value } };
  },
};
for (const [name, form] of Object.entries(cards)) {
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    if (await command("solid.add", SENDERS[name](form))) tray.release();
  });
  form.addEventListener("input", told);
  form.querySelector("[data-close]").addEventListener("click", () => tray.release());
}

let last = null;
let moved = 0;
element.addEventListener("pointerdown", (event) => {
  if (event.target !== canvas && event.target !== overlay) return;
  last = [event.clientX, event.clientY];
  moved = 0;
  event.target.setPointerCapture(event.pointerId);
});
element.addEventListener("pointermove", (event) => {
  if (!last) return;
  const [dx, dy] = [event.clientX - last[0], event.clientY - last[1]];
  moved += Math.abs(dx) + Math.abs(dy);
  event.shiftKey || event.buttons & 4 ? viewer.panBy(dx, dy) : viewer.turnBy(dx, dy);
  last = [event.clientX, event.clientY];
});
element.addEventListener("pointerup", () => { last = null; });
element.addEventListener("wheel", (event) => {
  if (event.target.closest(".card")) return;
  event.preventDefault();
  viewer.zoomBy(Math.exp(-event.deltaY * 0.0015));
}, { passive: false });
canvas.addEventListener("click", (event) => {
  if (moved > 4) return;
  const box = canvas.getBoundingClientRect();
  const pixel = [event.clientX - box.left, event.clientY - box.top];
  if (tray.current() === "lay") return laying.click(pixel);
  if (tray.current() !== "fillet") return;
  const edge = viewer.edgeAt(pixel);
  if (!edge) return tell("No edge there; click closer to an edge of the solid.");
  picked.fillet.has(edge.name) ? picked.fillet.delete(edge.name) : picked.fillet.set(edge.name, edge.body);
  cards.fillet.elements.rule.value = "";
  viewer.choose(picked.fillet.keys());
  told();
});
canvas.addEventListener("keydown", (event) => {
  const way = { ArrowLeft: [-12, 0], ArrowRight: [12, 0], ArrowUp: [0, -12], ArrowDown: [0, 12] }[event.key];
  if (way) {
    event.preventDefault();
    event.shiftKey ? viewer.panBy(...way) : viewer.turnBy(...way);
  }
  if (event.key === "+" || event.key === "-") viewer.zoomBy(event.key === "+" ? 1.2 : 1 / 1.2);
});

sheet.addEventListener("change", async (event) => {
  if (event.target.matches("[data-material]")) return command("solid.material", { text: event.target.value });
  const name = event.target.closest("[data-operation]")?.dataset.operation;
  if (!name || !event.target.dataset.field) return;
  event.target.blur();
  const done = await command("solid.set_number", { name, field: event.target.dataset.field, text: event.target.value, unit });
  if (!done) load();
});
sheet.addEventListener("click", (event) => {
  const name = event.target.closest("[data-operation]")?.dataset.operation;
  if (!name) return;
  const act = event.target.dataset.act;
  const off = event.target.closest(".op").classList.contains("off");
  if (act === "suppress") command("solid.suppress", { name, suppressed: !off });
  if (act === "remove") command("solid.remove", { name });
  if (act === "up" || act === "down") command("solid.move", { name, by: act === "up" ? -1 : 1 });
  if (event.target.dataset.suggest) command("solid.set_number", { name, field: event.target.dataset.suggestField, text: event.target.dataset.suggest });
});

startPanel({ takeTool: (name) => tray.choose(name) });
onChanged(load);
onTyped(load);
load().then(() => { if (location.hash) tray.choose(location.hash.slice(1)); }, (problem) => say(problem.message, true));
