// The Reference stage: the picture, what is known of it, checks, placing, clean-up, outlines.

import { ask, command, mayChange, say, send, unit, version } from "./talk.js";
import { mark, onChanged, onTyped, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { Board } from "./board.js";
import { followDrag } from "./gestures.js";
import { startAsk } from "./asking.js";
import { startCleaning } from "./cleaning.js";
import { startOutlines } from "./outlines.js";
import { startPictures } from "./pictures.js";
import { startQuality } from "./quality.js";
import { poseOf } from "./pose.js";
import { createMarks } from "./reference_marks.js";

const element = document.getElementById("board");
const board = new Board(element);
const note = document.getElementById("note");
const REACH_PX = 12;
const RESTING = "Take a tool from the Tray, or drag the picture to look around; the wheel comes closer.";

/** @type {{ known: any[], picture: any, pictures: any[], scale: any, traces: any[] }} */
let state = { known: [], picture: null, pictures: [], scale: null, traces: [] };
let pose = poseOf({ angle: 0, flipped: false });
let picks = [];
let found = null;
let chosen = null;
let fittedTo = "";

const marks = createMarks({ board, pose: () => pose });
const asking = startAsk({
  board,
  closed: () => {
    picks = [];
    found = null;
    tray.release();
  },
});

async function load() {
  const answer = await ask("reference/board");
  if (answer.version < version()) return;
  state = answer;
  pictures.show(state);
  if (!state.picture) return;
  document.querySelector(".drop")?.remove();
  pose = poseOf(state.picture);
  const { id, angle, flipped } = state.picture;
  if (fittedTo !== `${id} ${angle} ${flipped}`) {
    fittedTo = `${id} ${angle} ${flipped}`;
    fit();
  }
  cleaning.show(state, pose);
  showScale();
  draw();
}

function fit() {
  if (!state.picture) return;
  const { width, height } = state.picture;
  const corners = [
    [0, 0],
    [width, 0],
    [width, height],
    [0, height],
  ].map(pose.toWorld);
  const [xs, ys] = [0, 1].map((axis) => corners.map((corner) => corner[axis]));
  board.fit([Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)], 0.04);
}

function showScale() {
  const scale = state.scale;
  const inUnit = unit === "in" ? 1 / 25.4 : 1;
  board.ruler = scale
    ? { scale: scale.mm_per_px * inUnit, origin: pose.toWorld(scale.origin), word: unit, y: 1 }
    : { scale: 1, origin: [0, 0], word: "px", y: -1 };
  board.drawRulers();
  note.textContent = scale
    ? `${(1 / scale.mm_per_px).toFixed(2)} px per mm${scale.is_set ? ", size set by hand" : scale.model === "similarity" ? "" : `, ${scale.model}`}`
    : "no known length yet: rulers show pixels";
}

function draw() {
  board.screen.replaceChildren(...marks.known(state.known, chosen));
  for (const pick of picks) board.screen.append(marks.pick([pick.x, pick.y], { loose: !pick.edge }));
  if (found) board.screen.append(marks.waiting(found));
  board.screen.append(...pictures.handles(pose), ...cleaning.marks());
  outlines.draw();
}

/** Where the nearest edge is. @param {number[]} place in picture pixels */
const findEdge = ([x, y]) =>
  send("reference/pick", { x, y, reach: Math.min(40, Math.max(6, REACH_PX / board.view.zoom)) });

/** The tool was dropped, or another taken, before it had its answer. */
class Dropped extends Error {}

async function addPick(place, exact) {
  const pick = exact ? { x: place[0], y: place[1], sigma: 0.5 / board.view.zoom, edge: false } : await findEdge(place);
  say(
    !exact && !pick.edge
      ? "There is no clear edge near that click, so it was taken as clicked. Come closer with the wheel, or nudge it with the arrow keys."
      : "",
  );
  picks.push(pick);
  draw();
}

const asPlaces = () => picks.map((pick) => [pick.x, pick.y]);
const sigma = () => Math.max(...picks.map((pick) => pick.sigma));
const caliper = (what, places) => state.picture.stand_in && (() => send("reference/caliper", { what, places }));

/** What the picture shows at some places. Where the tool was dropped meanwhile, nothing is done with it. */
async function find(kind, places, more = {}) {
  const held = tray.current();
  say("Looking for it …");
  const answer = await send("reference/find", { kind, places, ...more });
  say("");
  if (tray.current() !== held) throw new Dropped();
  found = answer;
  draw();
  return found;
}

const middleOf = (places) => [0, 1].map((axis) => places.reduce((sum, place) => sum + place[axis], 0) / places.length);

function askLength(places, then, words = 'Type how long that is, for example 84, 3 1/2 in or 3.48", and press Enter.') {
  asking.open({
    label: "How long is that?",
    at: pose.toWorld(middleOf(places)),
    caliper: caliper("distance", places),
    send: then,
  });
  tell(words);
}

async function askDiameter(place, then) {
  const round = await find("round", [place]);
  const rim = [round.center[0] + round.half_axes[0], round.center[1]];
  asking.open({
    label: "Diameter",
    at: pose.toWorld(round.center),
    caliper: caliper("diameter", [rim]),
    send: (values) => then(round, values),
  });
  tell("Type the diameter, and press Enter.");
}

const roundPlaces = ({ center: [x, y], half_axes: [a, b], angle }) =>
  [
    [angle, a],
    [angle + Math.PI / 2, b],
  ].flatMap(([turn, half]) => [-half, half].map((way) => [x + way * Math.cos(turn), y + way * Math.sin(turn)]));

async function closeJaws(places, way) {
  const jaws = await find("jaws", places, { way });
  const ends = [jaws.start, jaws.end];
  const add = ({ reading, stand_in: standIn }) =>
    command("reference.add_known", {
      start: jaws.start,
      end: jaws.end,
      text: reading,
      sigma_px: jaws.sigma,
      unit,
      stand_in: standIn,
      jaws: { way: jaws.way, place: places[0] },
    });
  askLength(ends, add, "Type what your caliper reads across there, and press Enter.");
}

/** A drawing made to size, a print or a scan: the picture itself is so wide. */
function askWidth() {
  const { width, height } = state.picture;
  found = { start: [0, height / 2], end: [width, height / 2] };
  draw();
  asking.open({
    label: "Width of the whole picture",
    at: pose.toWorld([width / 2, height / 2]),
    send: (values) => command("reference.add_width", { text: values.reading, unit }),
  });
  tell("Type how wide the whole picture is in reality, from border to border, and press Enter.");
}

async function addCard(places) {
  const card = await find("card", places);
  await command("reference.add_rectangle", {
    corners: card.corners,
    edges: card.edges,
    thing: "card",
    sigma_px: card.sigma,
  });
  tray.finish("card");
}

async function addSheet(places) {
  const sheet = await find("sheet", places);
  asking.open({
    label: "Measured size, if you have it",
    at: pose.toWorld(middleOf(sheet.corners)),
    sheet: sheet.likely,
    optional: true,
    send: (values) =>
      command("reference.add_rectangle", {
        corners: sheet.corners,
        edges: sheet.edges,
        thing: values.sheet,
        text: values.reading,
        sigma_px: sheet.sigma,
        unit,
      }),
  });
  tell("Choose the sheet; type its measured width × height if you have them, since sheets differ by up to 2 mm.");
}

let searching = false;

/** The whole picture is searched first; only where nothing is found there is a click asked for. */
async function searchFirst(add) {
  searching = true;
  try {
    await add([]);
  } catch (problem) {
    if (problem instanceof Dropped) return;
    found = null;
    draw();
    say(`${problem.message} Click in the middle of it to look there again.`, true);
  } finally {
    searching = false;
  }
}

/** Each tool: how many picks it takes, whether they go to edges, what is said between them, and what then happens. */
const FLOWS = {
  known: {
    count: 2,
    words: ["Click the other end of the length. The arrow keys nudge the last pick."],
    then: () =>
      askLength(asPlaces(), (values) =>
        command("reference.add_known", {
          start: asPlaces()[0],
          end: asPlaces()[1],
          text: values.reading,
          sigma_px: sigma(),
          unit,
          stand_in: values.stand_in,
        }),
      ),
  },
  diameter: {
    count: 1,
    raw: true,
    then: ([place]) =>
      askDiameter(place, (round, values) =>
        command("reference.add_diameter", { ...round, text: values.reading, unit, stand_in: values.stand_in }),
      ),
  },
  "jaws-level": { count: 1, raw: true, then: (places) => closeJaws(places, "level") },
  "jaws-upright": { count: 1, raw: true, then: (places) => closeJaws(places, "upright") },
  "jaws-closest": { count: 1, raw: true, then: (places) => closeJaws(places, "closest") },
  "jaws-along": {
    count: 3,
    raw: true,
    words: [
      "Click a place on the edge that one jaw shall lie along.",
      "Click another place on that edge, far from the first.",
    ],
    then: (places) => closeJaws(places, "along"),
  },
  card: { count: 1, raw: true, then: (places) => addCard(places) },
  sheet: { count: 1, raw: true, then: (places) => addSheet(places) },
  rectangle: {
    count: 4,
    raw: true,
    words: ["Click the second corner.", "Click the third corner.", "Click the last corner."],
    then: async (places) => {
      const four = await find("rectangle", places);
      asking.open({
        label: "Width × height",
        at: pose.toWorld(middleOf(places)),
        send: (values) =>
          command("reference.add_rectangle", {
            corners: four.corners,
            edges: four.edges,
            text: values.reading,
            sigma_px: four.sigma,
            unit,
          }),
      });
      tell("Type its longer side × its shorter one, for example 120 x 80 mm.");
    },
  },
  straight: {
    count: 2,
    raw: true,
    words: ["Click the other end of the same edge."],
    then: async (places) => {
      const edge = await find("straight", places);
      await command("reference.add_straight", { places: edge.places });
      tray.finish("straight");
    },
  },
  check: { count: 2, words: ["Click the other edge."], then: () => askCheck("distance", asPlaces()) },
  "check-angle": {
    count: 3,
    words: ["Click a place on the first side.", "Click a place on the second side."],
    then: async () => {
      await command("reference.add_check", { places: asPlaces(), what: "angle", sigma_px: sigma() });
      tray.finish("check-angle");
    },
  },
  "check-round": {
    count: 1,
    raw: true,
    then: async ([place]) => {
      const round = await find("round", [place]);
      askCheck("diameter", roundPlaces(round), [[round.center[0] + round.half_axes[0], round.center[1]]]);
    },
  },
  level: {
    count: 2,
    words: ["Click a second place on the same edge, far from the first."],
    then: async ([start, end]) => {
      await command("reference.level", { start, end });
      tray.finish("level");
    },
  },
  origin: {
    count: 1,
    raw: true,
    then: async ([place]) => {
      await command("reference.set_origin", { place });
      tray.finish("origin");
    },
  },
};
FLOWS["known-exact"] = { ...FLOWS.known, exact: true };

function askCheck(what, places, jaws = places) {
  if (!state.scale) {
    tray.release();
    return say("Set a known length first, so that the picture can be measured in.", true);
  }
  asking.open({
    label: "Gauge reading, if you have it",
    at: pose.toWorld(middleOf(places)),
    optional: true,
    caliper: caliper(what, jaws),
    send: (values) =>
      command("reference.add_check", {
        places,
        what,
        text: values.reading,
        sigma_px: picks.length ? sigma() : 0.1,
        unit,
        stand_in: values.stand_in,
      }),
  });
  tell("Type what your gauge reads to see the error, or press Enter to note the picture's reading alone.");
}

/** Whether a length is looked for that helps the least sure size of the part, not all sizes of the sketch. */
let forSize = false;

async function measureNext() {
  const of = forSize ? "size" : "";
  forSize = false;
  tray.choose("known");
  const { found: next } = await send("reference/next", { of });
  if (tray.current() !== "known") return;
  if (!next) {
    tray.release();
    return say("No further length would improve the sizes by much.");
  }
  picks = [];
  for (const place of [next.start, next.end]) await addPick(place, false);
  found = { start: asPlaces()[0], end: asPlaces()[1] };
  draw();
  FLOWS.known.then();
}

async function layOnAxis() {
  say("Looking for the mirror axis …");
  const axis = await send("reference/axis", {});
  await command("reference.put_on_axis", { point: axis.point, angle: axis.angle });
  tray.finish("axis");
  say(
    `Centred on its mirror axis; the outline departs from its mirror image by ${format(axis.rms_mm)} ${unit} (rms), ` +
      `at most ${format(axis.largest_mm)} ${unit}.`,
  );
}

async function takeResolution() {
  if (state.picture.dpi) {
    await command("reference.add_resolution", {});
    return tray.finish("resolution");
  }
  asking.open({
    label: "Dots per inch",
    at: pose.toWorld([state.picture.width / 2, state.picture.height / 2]),
    send: (values) => command("reference.add_resolution", { text: values.reading }),
  });
}

const format = (mm) => (unit === "in" ? (mm / 25.4).toFixed(4) : mm.toFixed(3));
const AT_ONCE = { fit, closer: () => board.zoomBy(1.6), farther: () => board.zoomBy(1 / 1.6) };
const STARTS = {
  card: () => searchFirst(addCard),
  sheet: () => searchFirst(addSheet),
  "whole-width": askWidth,
  axis: layOnAxis,
  resolution: takeResolution,
  outlines: () => outlines.open(),
  clean: () => cleaning.open(),
  pictures: () => pictures.open(),
  quality: () => quality.open(),
};

/** Run something that may be refused; a refusal is said and the tool kept. */
async function trying(work) {
  try {
    await work();
  } catch (problem) {
    if (problem instanceof Dropped) return;
    picks = [];
    found = null;
    draw();
    say(problem.message, true);
  }
}

function clear() {
  picks = [];
  found = null;
  asking.hide();
  for (const card of [outlines, cleaning, pictures, quality]) card.close();
  draw();
}

const tray = startTray({
  resting: RESTING,
  take(name) {
    clear();
    if (AT_ONCE[name]) {
      AT_ONCE[name]();
      return tray.release();
    }
    if (!state.picture && name !== "pictures") return say("There is no picture in this job to measure in.", true);
    if (!mayChange) return say("You may look at this job but not change it.", true);
    if (STARTS[name]) trying(STARTS[name]);
  },
  drop() {
    chosen = null;
    clear();
  },
});

const outlines = startOutlines({
  board,
  tray,
  hasScale: () => Boolean(state.scale),
  pose: () => pose,
  traces: () => state.traces ?? [],
});
const cleaning = startCleaning({ board, tray, note, restore: showScale, redraw: draw });
const pictures = startPictures({ board, tray, redraw: draw, load });
const quality = startQuality({ tray });

board.mayPan = () => !FLOWS[tray.current()] && !cleaning.draws(tray.current()) && !outlines.draws();
board.onView(draw);
board.svg.addEventListener("click", (event) => {
  const end = event.target.closest("[data-which]");
  const flow = FLOWS[tray.current()];
  if (flow && state.picture && (asking.isOpen() || searching)) return;
  if (flow && state.picture) {
    return trying(async () => {
      const place = pose.toPx(board.at(event));
      if (flow.raw) {
        picks.push({ x: place[0], y: place[1], sigma: 1, edge: false });
        draw();
      } else await addPick(place, Boolean(flow.exact) || event.altKey);
      if (picks.length < flow.count) return tell(flow.words[picks.length - 1]);
      const places = asPlaces();
      if (flow.raw || !["known", "known-exact", "check"].includes(tray.current())) picks = flow.raw ? [] : picks;
      await flow.then(places);
    });
  }
  if (!board.panned && outlines.pick(pose.toPx(board.at(event)))) return;
  board.panned = false;
  chosen = end ? { id: end.closest("[data-known]").dataset.known, which: end.dataset.which } : null;
  mark(chosen ? [`known:${chosen.id}`] : []);
  if (chosen)
    tell(
      "Drag this end, or nudge it with the arrow keys by a tenth of a pixel, Shift by a whole one; Delete takes it away.",
    );
  draw();
});

const placeOf = (item, which) => (item.kind === "rectangle" ? item.corners[Number(which)] : item[which]);
async function moveEnd(item, which, place, sigmaPx) {
  if (item.kind !== "rectangle")
    return command("reference.move_known", { name: item.id, which, place, sigma_px: sigmaPx });
  const corners = item.corners.map((corner, index) => (index === Number(which) ? place : corner));
  const four = await find("rectangle", corners, { keep: true });
  found = null;
  return command("reference.set_corners", { name: item.id, corners: four.corners, edges: four.edges });
}

followDrag(board.svg, {
  begin(event) {
    const end = event.target.closest("[data-which]");
    if (!end || tray.current() || !mayChange || event.button !== 0) return null;
    return { id: end.closest("[data-known]").dataset.known, which: end.dataset.which };
  },
  move(held, event) {
    const item = state.known.find((one) => one.id === held.id);
    const place = pose.toPx(board.at(event));
    if (item.kind === "rectangle") item.corners[Number(held.which)] = place;
    else item[held.which] = place;
    draw();
  },
  end(done, event, moved) {
    if (!moved) return;
    trying(async () => {
      const item = state.known.find((one) => one.id === done.id);
      const place = pose.toPx(board.at(event));
      const asItIs = event.altKey || item.kind === "rectangle";
      const pick = asItIs ? { x: place[0], y: place[1], sigma: item.sigma } : await findEdge(place);
      if (!(await moveEnd(item, done.which, [pick.x, pick.y], pick.sigma))) await load();
    });
  },
  cancel: () => trying(load),
  still: 4,
});

function nudge(dx, dy) {
  const item = state.known.find((one) => one.id === chosen.id);
  const [x, y] = placeOf(item, chosen.which);
  return moveEnd(item, chosen.which, [x + dx, y + dy], item.sigma);
}

document.addEventListener("keydown", (event) => {
  if (event.target.matches("input, select, textarea")) return;
  const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  const step = event.shiftKey ? 1 : 0.1;
  if (way) event.preventDefault();
  if (way && picks.length) {
    const last = picks[picks.length - 1];
    last.x += way[0] * step;
    last.y += way[1] * step;
    draw();
  } else if (way && chosen) nudge(way[0] * step, way[1] * step);
  else if (way) board.panBy(-way[0] * 40, -way[1] * 40);
  else if (event.key === "Delete" && chosen) {
    command("reference.remove_known", { name: chosen.id });
    chosen = null;
  }
});

startPanel({ takeTool: (name) => (name === "next" ? trying(measureNext) : tray.choose(name)) });
onChanged(load);
onTyped(load);
load().then(
  () => {
    forSize = location.hash === "#sure";
    if (forSize || location.hash === "#next") trying(measureNext);
    else if (location.hash) tray.choose(location.hash.slice(1));
  },
  (problem) => say(problem.message, true),
);
