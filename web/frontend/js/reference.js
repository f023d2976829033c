// The Reference stage: the picture, known lengths between picked edges, levelling, outlines.

import { ask, command, mayChange, say, send, unit } from "./talk.js";
import { mark, onChanged, onTyped, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { Board, shape } from "./board.js";
import { straight } from "./arrows.js";
import { startOutlines } from "./outlines.js";

const element = document.getElementById("board");
const board = new Board(element);
const note = document.getElementById("note");
const form = document.getElementById("ask");
const REACH_PX = 12;
const RESTING = "Take a tool from the Tray, or drag the picture to look around; the wheel comes closer.";

/** @type {{ known: any[], picture: any, scale: any }} */
let state = { known: [], picture: null, scale: null };
let picks = [];
let chosen = null;
let fitted = false;

const flip = ([x, y]) => [x, -y];
const format = (mm) => (unit === "in" ? (mm / 25.4).toFixed(4) : mm.toFixed(2));

async function load() {
  state = await ask("reference/board");
  if (!state.picture) return;
  const { width, height, digest } = state.picture;
  if (!fitted) {
    fitted = true;
    board.fit([0, -height, width, 0], 0.04);
  }
  board.setPicture(element.dataset.pictureUrl.replace("DIGEST", digest), [1, 0, 0, -1, 0, 0]);
  showScale();
  draw();
}

function showScale() {
  const scale = state.scale;
  const inUnit = unit === "in" ? 1 / 25.4 : 1;
  board.ruler = scale ? { scale: scale.mm_per_px * inUnit, origin: flip(scale.origin), word: unit, y: 1 } : { scale: 1, origin: [0, 0], word: "px", y: -1 };
  board.drawRulers();
  if (state.picture) note.textContent = scale ? `${(1 / scale.mm_per_px).toFixed(2)} px per mm` : "no known length yet: rulers show pixels";
}

function pickMark(place, loose, selected, data = {}) {
  const [x, y] = board.toScreen(flip(place));
  const group = shape("g", data);
  group.append(shape("circle", { class: `pick${loose ? " loose" : ""}${selected ? " sel" : ""}`, cx: x, cy: y, r: 6 }),
    shape("path", { class: `pick${selected ? " sel" : ""}`, d: `M${x - 11} ${y}H${x - 3}M${x + 3} ${y}H${x + 11}M${x} ${y - 11}V${y - 3}M${x} ${y + 3}V${y + 11}` }));
  return group;
}

function draw() {
  board.screen.replaceChildren();
  for (const item of state.known) {
    const group = shape("g", { class: "known", "data-known": item.id });
    const [first, second] = [item.start, item.end].map((place) => board.toScreen(flip(place)));
    const size = Math.hypot(second[0] - first[0], second[1] - first[1]) || 1;
    const way = [(second[0] - first[0]) / size, (second[1] - first[1]) / size];
    group.append(...straight(first, second, way, 26, `${format(item.mm)}`));
    for (const which of ["start", "end"]) {
      group.append(pickMark(item[which], false, chosen?.id === item.id && chosen.which === which, { "data-which": which }));
    }
    board.screen.append(group);
  }
  for (const pick of picks) board.screen.append(pickMark([pick.x, pick.y], !pick.edge, false));
  outlines.draw();
}

/** Where the nearest edge is. @param {[number, number]} place in picture pixels */
const findEdge = ([x, y]) => send("reference/pick", { x, y, reach: Math.min(40, Math.max(6, REACH_PX / board.view.zoom)) });

async function addPick(place, exact) {
  try {
    const pick = exact ? { x: place[0], y: place[1], sigma: 0.5 / board.view.zoom, edge: false } : await findEdge(place);
    if (!exact && !pick.edge) say("There is no clear edge near that click, so it was taken as clicked. Come closer with the wheel, or nudge it with the arrow keys.");
    else say("");
    picks.push(pick);
    draw();
  } catch (problem) {
    say(problem.message, true);
  }
}

async function measureClick(place, exact) {
  if (picks.length >= 2) picks = [];
  await addPick(place, exact);
  if (picks.length === 1) tell("Click the other end of the length. The arrow keys nudge the last pick.");
  if (picks.length === 2) askLength();
}

function askLength() {
  const [a, b] = picks.map((pick) => board.toScreen([pick.x, -pick.y]));
  form.hidden = false;
  form.style.left = `${Math.min(Math.max(40, (a[0] + b[0]) / 2 - 60), element.clientWidth - 330)}px`;
  form.style.top = `${Math.min(Math.max(40, (a[1] + b[1]) / 2 + 50), element.clientHeight - 90)}px`;
  form.elements.reading.focus();
  tell("Type how long that is, for example 84, 3 1/2 in or 3.48\", and press Enter.");
}

function closeAsk() {
  form.hidden = true;
  form.reset();
  picks = [];
  draw();
}

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const [start, end] = picks;
  const done = await command("reference.add_known", {
    start: [start.x, start.y], end: [end.x, end.y], text: form.elements.reading.value, sigma_px: Math.max(start.sigma, end.sigma), unit });
  if (!done) return form.elements.reading.select();
  closeAsk();
  tray.release();
});
form.querySelector("[data-close]").addEventListener("click", () => { closeAsk(); tray.release(); });

async function levelClick(place) {
  await addPick(place, false);
  if (picks.length < 2) return tell("Click a second place on the same edge, far from the first.");
  const [start, end] = picks;
  picks = [];
  await command("reference.level", { start: [start.x, start.y], end: [end.x, end.y] });
  tray.release();
}

const ACTIONS = {
  known: (place) => measureClick(place, false),
  "known-exact": (place) => measureClick(place, true),
  level: levelClick,
};
const AT_ONCE = {
  fit: () => state.picture && board.fit([0, -state.picture.height, state.picture.width, 0], 0.04),
  closer: () => board.zoomBy(1.6),
  farther: () => board.zoomBy(1 / 1.6),
};

const tray = startTray({
  resting: RESTING,
  take(name) {
    picks = [];
    form.hidden = true;
    outlines.close();
    draw();
    if (AT_ONCE[name]) {
      AT_ONCE[name]();
      return tray.release();
    }
    if (!state.picture) return say("There is no picture in this job to measure in.", true);
    if (!mayChange) return say("You may look at this job but not change it.", true);
    if (name === "outlines") outlines.open();
  },
  drop() {
    picks = [];
    chosen = null;
    form.hidden = true;
    outlines.close();
    draw();
  },
});

const outlines = startOutlines({ board, tray, hasScale: () => Boolean(state.scale) });

board.mayPan = () => !ACTIONS[tray.current()];
board.onView(draw);
board.svg.addEventListener("click", (event) => {
  const end = event.target.closest("[data-which]");
  const action = ACTIONS[tray.current()];
  if (action && state.picture && form.hidden) return action(flip(board.at(event)));
  chosen = end ? { id: end.closest("[data-known]").dataset.known, which: end.dataset.which } : null;
  mark(chosen ? [`known:${chosen.id}`] : []);
  if (chosen) tell("The arrow keys nudge this end by a tenth of a pixel, Shift by a whole one; Delete takes the known length away.");
  draw();
});

async function nudge(dx, dy) {
  const item = state.known.find((one) => one.id === chosen.id);
  const [x, y] = item[chosen.which];
  await command("reference.move_known", { name: item.id, which: chosen.which, place: [x + dx, y + dy], sigma_px: item.sigma });
}

document.addEventListener("keydown", (event) => {
  if (event.target.matches("input, select, textarea")) return;
  const ways = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] };
  const way = ways[event.key];
  const step = event.shiftKey ? 1 : 0.1;
  if (way && picks.length) {
    event.preventDefault();
    const last = picks[picks.length - 1];
    last.x += way[0] * step;
    last.y += way[1] * step;
    draw();
  } else if (way && chosen) {
    event.preventDefault();
    nudge(way[0] * step, way[1] * step);
  } else if (way) {
    event.preventDefault();
    board.panBy(-way[0] * 40, -way[1] * 40);
  } else if (event.key === "Delete" && chosen) {
    command("reference.remove_known", { name: chosen.id });
    chosen = null;
  }
});

startPanel({ takeTool: (name) => tray.choose(name) });
onChanged(load);
onTyped(load);
load().then(() => { if (location.hash) tray.choose(location.hash.slice(1)); }, (problem) => say(problem.message, true));
