// The Sketch stage: drawing, choosing, dragging, tying and dimensioning.

import { ask, command, mayChange, say, send, setShown, unit, upload } from "./talk.js";
import { mark, onChanged, onTyped, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { Board } from "./board.js";
import { followDrag } from "./gestures.js";
import { createDrawing } from "./sketch_drawing.js";
import { createPens } from "./sketch_pens.js";
import { createEdits } from "./edit_sentence.js";
import { createFindings } from "./findings.js";
import { createGrid } from "./grid.js";
import { createMeant } from "./meant.js";
import { chainOf } from "./chain.js";
import { startOpened } from "./opened.js";

const element = document.getElementById("board");
const board = new Board(element);
const drawing = createDrawing(board);
const opened = startOpened(drawing);
const note = document.getElementById("note");
const form = document.getElementById("ask");
const set = form.querySelector("[data-set]");
const drive = form.querySelector("[data-drive]");
const SNAP_PX = 10;
const DRAG_PX = 4;
const RESTING = "Click to choose, Shift-drag a box around curves, drag what is free, or take a tool from the Tray.";

/** How many things a constraint or dimension ties, and which make a full choice earlier. */
const WANTED = {
  coincident: 2,
  horizontal: 2,
  vertical: 2,
  parallel: 2,
  perpendicular: 2,
  tangent: 2,
  smooth: 2,
  equal: 2,
  concentric: 2,
  symmetric: 3,
  midpoint: 2,
  "on curve": 2,
  fixed: 1,
  distance: 2,
  across: 2,
  up: 2,
  radius: 1,
  diameter: 1,
  angle: 2,
  "arc length": 1,
};
const DIMENSIONS = new Set(["distance", "across", "up", "radius", "diameter", "angle", "arc length"]);
const LINE_ALONE = new Set(["horizontal", "vertical", "distance", "across", "up"]);

let fitted = false;
let asking = null;
let drag = null;
let justDragged = false;

function show(state) {
  if (state.since !== null && state.since !== drawing.data.version) return load();
  drawing.show(state);
  findings.changed();
  setShown(state.version);
  board.setPictures(state.pictures);
  opened.show(state);
  if (!fitted) {
    fitted = true;
    fit();
  }
  const free = state.degrees;
  note.textContent = drawing.data.shapes.curves.length
    ? free
      ? `${free} degree${free > 1 ? "s" : ""} of freedom`
      : "fully located"
    : "nothing drawn yet";
}

function fit() {
  const { points, curves } = drawing.data.shapes;
  if (!points.length) return fitPicture();
  const xs = points.map((point) => point.x);
  const ys = points.map((point) => point.y);
  const boxes = [...element.querySelectorAll(".hit[data-curve]")].map((path) => path.getBBox());
  const left = Math.min(...xs, ...boxes.map((box) => box.x));
  const right = Math.max(...xs, ...boxes.map((box) => box.x + box.width));
  const low = Math.min(...ys, ...boxes.map((box) => box.y));
  const high = Math.max(...ys, ...boxes.map((box) => box.y + box.height));
  board.fit([left, low, right, high], curves.length > 1 ? 0.22 : 0.5);
}

function fitPicture() {
  const picture = drawing.data.pictures[0];
  if (!picture) return board.fit([-10, -10, 110, 80], 0.02);
  const [a, b, c, d, e, f] = picture.matrix;
  const [width, height] = picture.size;
  const corners = [
    [0, 0],
    [width, 0],
    [0, height],
    [width, height],
  ].map(([x, y]) => [a * x + c * y + e, b * x + d * y + f]);
  const xs = corners.map((place) => place[0]);
  const ys = corners.map((place) => place[1]);
  board.fit([Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)], 0.03);
}

const load = async () => show(await ask("sketch/board"));

/** The point near a place, if catching is on. @param {number[]} place @param {boolean} off */
function caught(place, off) {
  if (off) return null;
  let best = null;
  let least = SNAP_PX;
  const at = board.toScreen(place);
  for (const point of drawing.data.shapes.points) {
    if (point.role === "handle") continue;
    const there = board.toScreen([point.x, point.y]);
    const away = Math.hypot(there[0] - at[0], there[1] - at[1]);
    if (away < least) [least, best] = [away, point];
  }
  return best;
}

const grid = createGrid(board);
const pens = createPens({ board, drawing, caught, grid, command, send, tell, say, unit });
const edits = createEdits({
  board,
  drawing,
  caught,
  ask,
  send,
  upload,
  command,
  choose,
  release: () => tray.release(),
  say,
  unit,
});
/** A list covers so much of the Board at its right. @param {number} width */
function beside(width) {
  if (board.beside === width) return;
  board.beside = width;
  fit();
}
const meant = createMeant({
  ask,
  command,
  choose,
  outline: (paths) => drawing.sketchOut(paths, null),
  beside,
  say,
  release: () => tray.release(),
});
const findings = createFindings({
  board,
  drawing,
  command,
  choose,
  beside,
  release: () => tray.release(),
  explain,
  unit,
});
const SAID = "edit-";

function choose(ids) {
  drawing.choose(ids);
  const dimension = [...ids].find((id) => drawing.dimension(id));
  mark(dimension ? [`dimension:${dimension}`] : []);
}

const things = (event) => {
  const target = event.target;
  return (
    target.dataset?.point ?? target.dataset?.curve ?? target.closest("[data-dimension]")?.dataset.dimension ?? null
  );
};

/** Take one more thing for a constraint; carry it out when there are enough. */
async function tie(kind, id) {
  const ids = new Set(drawing.chosen);
  if (id) ids.has(id) ? ids.delete(id) : ids.add(id);
  const of = [...ids].filter((one) => drawing.point(one) || drawing.curve(one));
  choose(of);
  const lineAlone =
    LINE_ALONE.has(kind) &&
    of.length === 1 &&
    drawing.curve(of[0])?.kind === "line" &&
    !(kind === "distance" && id === null);
  const straight = of.some((one) => drawing.point(one) || drawing.curve(one)?.kind === "line");
  const need = lineAlone ? 1 : kind === "diameter" && straight ? 2 : WANTED[kind];
  if (of.length < need) return tell(`${need - of.length} more to choose for ${kind}.`);
  choose([]);
  const ordered = [...of].sort((a, b) => Number(Boolean(drawing.curve(a))) - Number(Boolean(drawing.curve(b))));
  if (!DIMENSIONS.has(kind)) return command("sketch.constrain", { kind, of: ordered });
  const before = new Set(drawing.data.shapes.dimensions.map((dimension) => dimension.id));
  const done = await command("sketch.dimension", { kind, of: ordered, unit });
  const fresh = drawing.data.shapes.dimensions.find((dimension) => !before.has(dimension.id));
  if (fresh?.driving) askValue(fresh.id);
}

/** The small form beside a place of the Board, in pixels. */
function openForm(label, x, y) {
  form.hidden = false;
  form.querySelector("label span").textContent = label;
  form.style.left = `${Math.min(Math.max(30, x), element.clientWidth - 330)}px`;
  form.style.top = `${Math.min(Math.max(30, y), element.clientHeight - 76)}px`;
}

function askValue(id) {
  const dimension = drawing.dimension(id);
  const text = element.querySelector(`[data-dimension="${id}"] text`);
  if (!dimension || !text) return;
  const box = text.getBoundingClientRect();
  const frame = element.getBoundingClientRect();
  asking = id;
  openForm(dimension.name, box.left - frame.left - 40, box.top - frame.top + 20);
  const value = form.elements.value;
  value.value = dimension.label.replace(/^\(?[RØ⌒]?/, "").replace(")", "");
  value.readOnly = !dimension.driving;
  set.hidden = !dimension.driving;
  set.textContent = "Set";
  drive.hidden = false;
  drive.textContent = dimension.driving ? "Only read" : "Make it drive";
  dimension.driving ? value.select() : drive.focus();
  choose([id]);
}

/** Sizes typed in place of the next click. @param {string} first what was typed to begin with */
function askSizes(first) {
  const [x, y] = board.pointer ? board.toScreen(board.pointer) : [40, 40];
  asking = null;
  openForm(pens.typed, x + 40, y + 40);
  form.elements.value.readOnly = false;
  set.hidden = false;
  set.textContent = "Draw";
  drive.hidden = true;
  form.elements.value.value = first;
  form.elements.value.focus();
}

function closeAsk() {
  form.hidden = true;
  asking = null;
}

/** A dimension drives or only reads, the other way than now. @param {string} id */
const turnDriving = (id) => command("sketch.drive", { name: id, on: !drawing.dimension(id).driving });

form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const text = form.elements.value.value;
  if (asking === null) {
    closeAsk();
    return pens.type(text.split(",").map((one) => one.trim()));
  }
  const done = await command("sketch.set_value", { name: asking, text, unit });
  done ? closeAsk() : form.elements.value.select();
});
form.querySelector("[data-close]").addEventListener("click", closeAsk);
drive.addEventListener("click", () => turnDriving(asking).then(closeAsk));
document.addEventListener(
  "keydown",
  (event) => {
    const typing = event.target.matches("input, select, textarea") || event.ctrlKey || event.metaKey || event.altKey;
    if (typing || !pens.typed || !/^[0-9.(]$/.test(event.key)) return;
    event.preventDefault();
    event.stopPropagation();
    askSizes(event.key);
  },
  true,
);

/** Teeth from the curves toward the picture's edge, and where they are longest. */
async function showComb() {
  const found = await ask("sketch/comb");
  if (!found.teeth.length) {
    tray.release();
    return say("Nothing here was traced, so there is no edge to compare with.", true);
  }
  drawing.comb(found);
  return tell(
    `Edge to curve: rms ${found.rms.toFixed(3)} mm, largest ${found.largest.toFixed(3)} mm; ` +
      `the teeth are drawn ${found.exaggeration} times as long. Esc takes them away.`,
  );
}

const CLICKS = {
  remove: (id) => id && command("sketch.remove", { names: [id] }),
  construction: (id) =>
    drawing.curve(id) && command("sketch.construction", { names: [id], on: !drawing.curve(id).construction }),
  async join(id) {
    if (!drawing.point(id)) return;
    const ids = [...drawing.chosen, id].filter((one) => drawing.point(one));
    choose(ids);
    if (ids.length < 2) return tell("Click the second loose end.");
    choose([]);
    await command("sketch.join", { first: ids[0], second: ids[1] });
  },
  trim: (id, event) => onCurve("sketch.trim", id, event),
  extend: (id, event) => onCurve("sketch.extend", id, event),
  more: (id, event) => onCurve("sketch.add_spline_point", id, event, "spline"),
  smoother: (id, event) => onCurve("sketch.smooth_spline", id, event, "spline"),
  bring: (id, event) => event.target.dataset.edge && bringIn(event.target.dataset),
  fewer: (id, event) => onCurve("sketch.remove_spline_point", id, event, "spline"),
};

/** An edge of the solid as construction that follows it. @param {DOMStringMap} picked */
async function bringIn({ body, edge }) {
  tell("Finding how that edge shows in this sketch …");
  try {
    await send("sketch/edge", { body, edge });
  } catch (problem) {
    return say(problem.message, true);
  } finally {
    tell("Click an edge of the solid behind the sketch.");
  }
  return command("sketch.bring", { body, edge });
}

/** A command on the curve that was clicked, or that has the point that was, and where. */
function onCurve(name, id, event, kind) {
  const curves = drawing.data.shapes.curves.filter((curve) => curve.id === id || curve.points.includes(id));
  const curve = curves.find((one) => !kind || one.kind === kind) ?? curves[0];
  return curve && command(name, { name: curve.id, place: board.at(event) });
}

/** A constraint that is kept unmet, and what would settle it. @param {string} id */
function explain(id) {
  const found = drawing.data.findings.find((one) => one.code === "conflict" && one.of[0] === id);
  const words = (one) =>
    drawing.data.shapes.constraints.find((item) => item.id === one)?.words ?? drawing.dimension(one)?.name ?? "it";
  const there = found.of.slice(1).filter((one) => words(one) !== "it");
  const settle = (drop) => command("sketch.settle", { name: id, drop });
  say(found.sentence, true, [
    ...there.map((one) => ({ words: `Drop ${words(one)}`, run: () => settle(one) })),
    { words: `Drop ${words(id)}`, run: () => settle(id) },
    ...(there.length ? [] : [{ words: "Try it again", run: () => settle("") }]),
  ]);
}

const tray = startTray({
  resting: RESTING,
  take(name) {
    closeAsk();
    pens.put(null);
    edits.close();
    meant.close();
    findings.close();
    if (name === "grid") {
      const on = grid.toggle();
      tray.release();
      return say(on ? "The grid is on: its crossings catch the pointer, unless Alt is held." : "The grid is off.");
    }
    drawing.pickBehind(name === "bring");
    if (name === "fit") {
      fit();
      return tray.release();
    }
    if (name === "comb") return showComb();
    if (name === "findings") return findings.open();
    if (!mayChange) return say("You may look at this job but not change it.", true);
    if (pens.has(name)) {
      choose([]);
      return pens.put(name);
    }
    if (name === "meant") return meant.open();
    if (name.startsWith(SAID)) return edits.open(name.slice(SAID.length), [...drawing.chosen]);
    if (WANTED[name] && drawing.chosen.size) return tie(name, null);
    if (name === "remove" && drawing.chosen.size) {
      const names = [...drawing.chosen];
      choose([]);
      return command("sketch.remove", { names });
    }
    if (name === "construction" && drawing.chosen.size) {
      const names = [...drawing.chosen].filter((id) => drawing.curve(id));
      if (names.length) return command("sketch.construction", { names, on: !drawing.curve(names[0]).construction });
    }
    if (!WANTED[name] && name !== "join") choose([]);
  },
  drop() {
    drawing.comb(null);
    drawing.pickBehind(false);
    closeAsk();
    pens.put(null);
    edits.close();
    meant.close();
    findings.close();
    choose([]);
  },
});

board.mayPan = (event) => !pens.active() && !event.shiftKey;
board.svg.addEventListener("click", (event) => {
  if (justDragged || board.panned) {
    justDragged = board.panned = false;
    return;
  }
  const conflict = event.target.closest?.("[data-conflict]")?.dataset.conflict;
  if (conflict) return explain(conflict);
  const untie = event.target.dataset?.untie;
  if (untie) return command("sketch.remove", { names: [untie] });
  const tool = tray.current();
  if (pens.active()) return pens.click(event);
  const id = things(event);
  // The drawing is made anew at each click, so that a double click finds nothing to fire at.
  if (edits.active()) return event.detail > 1 ? edits.chain(id) : edits.click(event, id);
  if (WANTED[tool]) return id && tie(tool, id);
  if (CLICKS[tool]) return CLICKS[tool](id, event);
  if (!id) return choose([]);
  if (event.detail > 1 && drawing.curve(id)) return choose(chainOf(id, drawing.data.shapes.curves));
  const ids = new Set(event.shiftKey ? drawing.chosen : []);
  ids.has(id) ? ids.delete(id) : ids.add(id);
  choose(ids);
});

/** Curves that lie wholly within a box. @param {number[]} one @param {number[]} other */
function within(one, other) {
  const [left, right] = [Math.min(one[0], other[0]), Math.max(one[0], other[0])];
  const [low, high] = [Math.min(one[1], other[1]), Math.max(one[1], other[1])];
  return [...element.querySelectorAll(".hit[data-curve]")]
    .filter((path) => {
      const box = path.getBBox();
      return box.x >= left && box.x + box.width <= right && box.y >= low && box.y + box.height <= high;
    })
    .map((path) => path.dataset.curve);
}

followDrag(board.svg, {
  begin: (event) =>
    event.button === 0 &&
    event.shiftKey &&
    event.target === board.svg &&
    !pens.active() && { from: board.at(event), to: board.at(event) },
  move(box, event) {
    const [[a, b], [c, d]] = [box.from, (box.to = board.at(event))];
    drawing.sketchOut([`M${a} ${b}H${c}V${d}H${a}Z`], null);
  },
  end(box, event, moved) {
    drawing.sketchOut([], null);
    if (!moved) return;
    justDragged = true;
    const ids = within(box.from, box.to);
    if (edits.active()) edits.add(ids);
    else choose(new Set([...drawing.chosen, ...ids]));
  },
  cancel: () => drawing.sketchOut([], null),
  still: DRAG_PX,
});
board.svg.addEventListener("dblclick", (event) => {
  const dimension = event.target.closest("[data-dimension]")?.dataset.dimension;
  if (dimension) askValue(dimension);
});

/** What follows the pointer when this is taken hold of. */
function held(target) {
  if (target.dataset.point) return [target.dataset.point];
  const curve = drawing.curve(target.dataset.curve);
  if (!curve) return null;
  return curve.kind === "circle" || curve.kind === "arc" ? [curve.id] : curve.points;
}

followDrag(board.svg, {
  begin(event) {
    const busy = pens.active() || edits.active() || WANTED[tray.current()] || CLICKS[tray.current()];
    if (event.button !== 0 || busy || !mayChange) return null;
    const what = held(event.target);
    return what && (drag = { held: what, from: board.at(event), to: null, busy: false, sequence: 0 });
  },
  move(mine, event) {
    mine.to = board.at(event);
    stepDrag();
  },
  async end(mine, event, moved) {
    drag = null;
    if (!moved) return;
    justDragged = true;
    const offset = [mine.to[0] - mine.from[0], mine.to[1] - mine.from[1]];
    if (!(await command("sketch.drag", { held: mine.held, offset, place: mine.to }))) load();
  },
  cancel() {
    drag = null;
    load();
  },
  still: DRAG_PX,
});
board.svg.addEventListener("pointermove", (event) => {
  if (pens.active()) pens.hover(event);
});

/** One request at a time; the newest place is sent as soon as the last answer is in. */
async function stepDrag() {
  const mine = drag;
  if (mine.busy) return;
  mine.busy = true;
  const to = mine.to;
  try {
    const answer = await send("sketch/drag", {
      held: mine.held,
      dx: to[0] - mine.from[0],
      dy: to[1] - mine.from[1],
      x: to[0],
      y: to[1],
      sequence: ++mine.sequence,
    });
    if (drag === mine) drawing.move(answer.moved);
  } catch (problem) {
    say(problem.message, true);
  }
  mine.busy = false;
  if (drag === mine && mine.to !== to) stepDrag();
}

document.addEventListener("keydown", (event) => {
  if (event.target.matches("input, select, textarea")) {
    if (event.key === "Escape") closeAsk();
    return;
  }
  if (event.key === "Enter") edits.active() ? edits.enter() : pens.finish();
  if (event.key === "0") fit();
  if (event.key === "d") [...drawing.chosen].filter((id) => drawing.dimension(id) && mayChange).forEach(turnDriving);
  if ((event.key === "Delete" || event.key === "Backspace") && drawing.chosen.size) {
    const names = [...drawing.chosen];
    choose([]);
    command("sketch.remove", { names });
  }
  const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[event.key];
  if (!way) return;
  event.preventDefault();
  const points = [...drawing.chosen].flatMap((id) => (drawing.point(id) ? [id] : (drawing.curve(id)?.points ?? [])));
  if (!points.length) return board.panBy(-way[0] * 40, way[1] * 40);
  const step = event.shiftKey ? 1 : 0.1;
  const first = drawing.point(points[0]);
  command("sketch.drag", {
    held: points,
    offset: [way[0] * step, way[1] * step],
    place: [first.x + way[0] * step, first.y + way[1] * step],
  });
});

board.ruler = { scale: unit === "in" ? 1 / 25.4 : 1, origin: [0, 0], word: unit, y: 1 };
startPanel({
  takeTool: (name) => tray.choose(name),
  onRow: (id) => {
    if (id.startsWith("dimension:")) choose([id.slice("dimension:".length)]);
  },
});
onChanged((detail) => (detail.board ? show(detail.board) : load()));
onTyped(load);
load().then(
  () => {
    if (location.hash) tray.choose(location.hash.slice(1));
  },
  (problem) => say(problem.message, true),
);
