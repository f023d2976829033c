// The Solid stage: the Build sheet and the turning view.

import { address, command, isOpen, mayChange, say, send, unit, version } from "./talk.js";
import { onChanged, onTyped, refresh, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { shape } from "./board.js";
import { followDrag, followView } from "./gestures.js";
import { startKeyPoint } from "./keypoint.js";
import { createViewer, LOOKS } from "./viewer.js";
import { unpack } from "./mesh.js";
import { startLaying } from "./laying.js";
import { fetchFile } from "./files.js";
import { startSection } from "./section.js";
import { createSentence } from "./sentence.js";
import { cornerWords, edgeWords, faceWords } from "./words.js";
import { startSheet } from "./sheet.js";

const element = document.getElementById("board");
const canvas = element.querySelector("canvas.solid");
const overlay = element.querySelector("svg.drawing");
const note = document.getElementById("note");
const sheet = document.getElementById("sheet");
const viewer = createViewer(canvas);
const RESTING = "Drag to turn, Shift drag to shift, the wheel comes closer. Take a tool to add to the Build sheet.";
/** Whether what is farther away looks smaller, for the eye of this page alone. */
let smaller = Boolean(sessionStorage.getItem("perspective"));
const hidden = new Set(JSON.parse(sessionStorage.getItem("hidden") ?? "[]"));

let state = {
  sketches: [],
  bodies: [],
  faces: [],
  planes: [],
  declared: {},
  operations: {},
  numbers: {},
  steps: [],
  until: null,
  pictures: [],
  edges: [],
};
/** The step that the solid is built to, "" for all; an own matter of this page. */
let until = sessionStorage.getItem(`until ${address("")}`) ?? "";
let shownMesh = null;
let asked = 0;
/** @type {(value?: any) => void} */
let isReady = () => {};
const ready = new Promise((then) => {
  isReady = then;
});
let pointed = null;
/** What is measured: one or two things picked on the solid. */
let picks = [];
let between = [];

const sentence = createSentence({
  host: () => sheet.querySelector(".ops"),
  state: () => ({
    ...state,
    allFaces: viewer.bodies.flatMap((body) => body.faces.map((name) => ({ body: body.name, name }))),
    edges: viewer.bodies.flatMap((body) => body.edges.map((name) => ({ body: body.name, name }))),
    corners: viewer.bodies.flatMap((body) => body.corners.map((corner) => ({ body: body.name, corner }))),
  }),
  changed: drawPicks,
  preview,
  build,
  dropped: () => tray.release(),
});

async function load() {
  const mine = ++asked;
  const fresh = await send("solid/build", { until });
  if (mine !== asked) return;
  state = fresh;
  isReady();
  const typing = sheet.contains(document.activeElement) && document.activeElement.matches("input, select");
  if (!typing || sentence.isOpen) {
    const focus = sentence.isOpen ? document.activeElement?.dataset?.blank : null;
    renew(fresh.sheet, () => {
      sentence.keep();
      if (focus) sentence.form.querySelector(`[data-blank="${focus}"]`)?.focus();
    });
  }
  const busy = isOpen(fresh.work);
  document.getElementById("working").textContent = busy ? howFar(fresh.work) : "";
  if (fresh.work?.status === "failed") say(fresh.work.problem, true);
  const mesh = fresh.mesh || fresh.work?.first;
  if (mesh && mesh !== shownMesh) await showMesh(mesh);
  if (!fresh.mesh && !busy) {
    viewer.show([]);
    shownMesh = null;
  }
  viewer.look(looks());
  fitIfNeeded();
  laying.show(fresh);
  drawOverlay();
  if (busy) setTimeout(load, 20);
  else refresh();
}

/** @param {any} work */
function howFar({ progress, seconds, first }) {
  const share = progress ? ` ${Math.round(progress * 100)} %,` : "";
  return `building,${share} ${seconds} s …${first ? " What you see is a first picture." : ""}`;
}

const looks = () =>
  Object.fromEntries(state.bodies.map((body) => [body.id, { colour: body.colour, hidden: hidden.has(body.id) }]));

async function showMesh(key) {
  const response = await fetch(address(`solid/mesh/${key}`));
  if (!response.ok) return;
  viewer.show(unpack(await response.arrayBuffer()));
  viewer.look(looks());
  shownMesh = key;
  element.dataset.mesh = key;
}

/** Show what the sentence would come to; nothing is stored. @param {any} sent */
async function preview(sent) {
  if (sent.command) return sentence.problem("");
  const mine = ++asked;
  const told = await send("solid/preview", { ...sent, until, unit, version: version() }).catch((problem) => ({
    problem: problem.message,
  }));
  if (mine !== asked || !sentence.isOpen) return;
  sentence.problem(told.problem ?? "");
  const mesh = told.mesh || told.work?.first;
  element.classList.toggle("trying", Boolean(mesh));
  if (mesh && mesh !== shownMesh) {
    await showMesh(mesh);
    fitIfNeeded();
  }
  if (isOpen(told.work)) setTimeout(() => sentence.isOpen && mine === asked && preview(sent));
  else limit(sent);
}

const LIMITED = { fillet: "radius", chamfer: "distance" };
const FAR_TOO_LARGE = "900 mm";
let limitOf = "";

/** The largest size that works for the edges picked is told before it is typed: asked for with one far too large. @param {any} sent */
async function limit(sent) {
  const size = LIMITED[sent.kind];
  const edges = JSON.stringify(sent.blanks.edges ?? null);
  if (!size || edges === limitOf || sent.name) return;
  limitOf = edges;
  const blanks = { ...sent.blanks, [size]: FAR_TOO_LARGE };
  let told = null;
  do {
    told = await send("solid/preview", { ...sent, blanks, until, unit, version: version() }).catch(() => null);
  } while (isOpen(told?.work) && limitOf === edges);
  if (limitOf === edges && sentence.isOpen && told?.works?.[size])
    sentence.hint(`Up to ${told.works[size]} works for these edges.`);
}

async function build({ kind, name, blanks, command: other, fixed }) {
  let done;
  if (other === "plane.add")
    done = await command(other, { kind: fixed.kind, fields: { ...blanks, ...fixed.fields }, unit });
  else if (other === "sketch.new") {
    done = await command(other, blanks);
    if (done) window.location.assign(address("sketch"));
  } else {
    const [place, after] = [state.steps.indexOf(until), state.until ? { after: until } : {}];
    const next = name
      ? command("solid.set", { name, blanks, unit })
      : command("solid.add", { kind, blanks, unit, ...after });
    done = await next;
    if (done && !name && state.until) {
      await load();
      buildTo(state.steps[place + 1]);
    }
  }
  if (done) tray.release();
}

/** Build to a step, or all. @param {string | null} step */
function buildTo(step) {
  until = step ?? "";
  sessionStorage.setItem(`until ${address("")}`, until);
  load();
}

/** The view fits when the first body appears, and when what is there has grown out of sight. */
let fitted = "";
function fitIfNeeded() {
  const what = viewer.bodies.length ? "bodies" : "sketches";
  const box = sketchBox();
  if (fitted !== what || (what === "bodies" && viewer.outOfSight())) viewer.fit(box);
  fitted = what;
}

/** Corners in space of everything drawn. */
function sketchBox() {
  const places = state.sketches.flatMap(({ frame, curves }) =>
    frame
      ? curves.flatMap((curve) =>
          [...curve.d.matchAll(/[MLC ](-?[\d.]+) (-?[\d.]+)/g)].map((found) =>
            inSpace(frame, [Number(found[1]), Number(found[2])]),
          ),
        )
      : [],
  );
  return places.length ? places : undefined;
}

const inSpace = ({ origin, across, up }, /** @type {number[]} */ [u, v]) =>
  origin.map((value, axis) => value + u * across[axis] + v * up[axis]);

/** Each sketch where it lies, drawn over the view by its plane's own matrix. */
function drawOverlay() {
  const wanted = sentence.isOpen ? sentence.kind : "";
  const picking = ["regions", "centres", "sections", "run"].includes(wanted);
  const lines = wanted === "axis";
  const corners = sentence.isOpen ? sentence.picked("corners").flat() : [];
  const measuring = tray?.current() === "measure" && between.length === 2;
  const show = measuring || picking || lines || corners.length || sentence.pointedAt?.corner || !state.bodies.length;
  overlay.toggleAttribute("hidden", !show);
  overlay.classList.toggle("pointer-events-none", !picking);
  // Sketches are drawn over the solid by a matrix of the plane, which only a parallel view has.
  const flat = picking || lines || !state.bodies.length;
  viewer.lookIn(smaller && !flat);
  overlay.replaceChildren(
    ...(flat ? state.sketches.filter((sketch) => sketch.frame).map((sketch) => drawnSketch(sketch, wanted)) : []),
  );
  if (measuring) {
    const [[ax, ay], [bx, by]] = between.map((place) => viewer.toScreen(place));
    overlay.append(shape("path", { class: "rubber", d: `M${ax} ${ay}L${bx} ${by}` }));
    for (const [cx, cy] of [
      [ax, ay],
      [bx, by],
    ])
      overlay.append(shape("circle", { class: "corner sel", cx, cy, r: 4 }));
  }
  for (const corner of corners) overlay.append(...ringAt(corner, "sel"));
  if (sentence.pointedAt?.corner) overlay.append(...ringAt(sentence.pointedAt, "at"));
  const { about, tip } = viewer.turn;
  const degrees = (value) => Math.round((value * 180) / Math.PI);
  note.textContent = element.classList.contains("trying")
    ? "as it would be"
    : `turned ${-degrees(about)}°, tipped ${degrees(tip)}°${smaller && !flat ? ", in perspective" : ""}`;
}

/** A corner of the solid marked by a ring. @param {{ body: string, corner: string }} corner @param {string} state */
function ringAt(corner, state) {
  const at = viewer.cornerPixel(corner);
  return at ? [shape("circle", { class: `corner ${state}`, cx: at[0], cy: at[1], r: 6 })] : [];
}

function drawnSketch(sketch, wanted) {
  const [[ox, oy], [ax, ay], [bx, by]] = [
    [0, 0],
    [1, 0],
    [0, 1],
  ].map((place) => viewer.toScreen(inSpace(sketch.frame, place)));
  const group = shape("g", {
    transform: `matrix(${ax - ox} ${ay - oy} ${bx - ox} ${by - oy} ${ox} ${oy})`,
    "data-sketch": sketch.id,
  });
  const chosen = sentence.isOpen ? sentence.filled[sentence.active] : null;
  const isChosen = (name) =>
    (chosen?.sketch === sketch.id && chosen.names.includes(name)) ||
    chosen?.sections?.some((one) => one.sketch === sketch.id && one.name === name);
  const point = sentence.pointedAt;
  const states = (name) =>
    `${isChosen(name) ? " sel" : ""}${point?.sketch === sketch.id && point.name === name ? " at" : ""}`;
  if (wanted === "regions" || wanted === "sections")
    for (const region of sketch.regions)
      group.append(
        shape("path", {
          class: `region show${states(region.id)}`,
          d: region.d,
          "data-pick": region.id,
          tabindex: 0,
          role: "checkbox",
          "aria-checked": String(isChosen(region.id)),
          "aria-label": `Region of ${region.area.toFixed(1)} square millimetres of ${sketch.title}`,
        }),
      );
  for (const curve of sketch.curves)
    group.append(
      shape("path", {
        class: `curve${curve.construction ? " construction" : " free"}${isChosen(curve.id) ? " sel" : ""}`,
        d: curve.d,
        "pointer-events": "none",
      }),
    );
  if (wanted === "run" || wanted === "axis")
    for (const curve of sketch.curves.filter((one) => wanted === "run" || one.kind === "line"))
      group.append(
        shape("path", {
          class: `hit${states(curve.id)}`,
          d: curve.d,
          "data-pick": curve.id,
          "pointer-events": "stroke",
          tabindex: 0,
          role: "checkbox",
          "aria-checked": String(isChosen(curve.id)),
          "aria-label": `${curve.kind} of ${sketch.title}`,
        }),
      );
  if (wanted === "centres")
    for (const center of sketch.centers)
      group.append(
        shape("circle", {
          class: `region show${states(center.id)}`,
          cx: center.place[0],
          cy: center.place[1],
          r: center.radius,
          "data-pick": center.id,
          tabindex: 0,
          role: "checkbox",
          "aria-checked": String(isChosen(center.id)),
          "aria-label": `Circle of ${sketch.title}`,
        }),
      );
  return group;
}
viewer.onRender(drawOverlay);

/** What is picked in the sentence is shown on the solid too. */
function drawPicks() {
  const edges = sentence.isOpen ? sentence.picked("edges").filter((pick) => pick.names) : [];
  const point = sentence.pointedAt;
  const plane =
    sentence.isOpen && sentence.kind !== "axis"
      ? sentence.picked("plane").find((pick) => typeof pick === "object")
      : null;
  const axes = sentence.isOpen ? sentence.picked("axis").filter((pick) => pick.edge) : [];
  const [faces] = sentence.isOpen ? sentence.picked("faces") : [];
  const repeated = sentence.isOpen ? sentence.picked("operations").flatMap((pick) => pick.operations) : [];
  for (const line of sheet.querySelectorAll(".op[data-step]"))
    line.classList.toggle("taken", repeated.includes(/** @type {HTMLElement} */ (line).dataset.step));
  if (plane) viewer.chooseFaces(plane.body, [plane.face]);
  else if (faces) viewer.chooseFaces(faces.body, faces.names);
  else
    viewer.choose([
      ...edges.flatMap((pick) => pick.names.map((name) => `${pick.body} ${name}`)),
      ...axes.map((pick) => `${pick.body} ${pick.edge}`),
      ...(point?.name && !point.sketch ? [`${point.body} ${point.name}`] : []),
    ]);
  drawOverlay();
}

/** Write the sentence of a tool, if it is still the one in hand. @param {string} name */
function begin(name) {
  if (tray.current() !== name || !state.declared[name]) return;
  if (sentence.needsBody(name) && !state.bodies.length) {
    tray.release();
    return say("There is no body yet that this could change; extrude a region first.", true);
  }
  sentence.open(name);
}

const tray = startTray({
  resting: RESTING,
  take(name) {
    if (LOOKS[name]) {
      viewer.turnTo(...LOOKS[name]);
      return tray.release();
    }
    if (name === "fit") {
      viewer.fit(sketchBox());
      return tray.release();
    }
    if (name === "perspective") {
      smaller = !smaller;
      sessionStorage.setItem("perspective", smaller ? "1" : "");
      tray.release();
      return drawOverlay();
    }
    if (name === "section") return section.open();
    if (name === "as-drawing") {
      tray.release();
      return fetchFile("the drawing", { kind: "view", look: viewer.axes(), until });
    }
    if (name === "measure") {
      picks = [];
      return drawOverlay();
    }
    if (!mayChange) return say("You may look at this job but not change it.", true);
    laying.close();
    if (name === "lay") {
      sentence.close();
      laying.open();
    } else ready.then(() => begin(name));
    drawOverlay();
  },
  drop() {
    limitOf = "";
    sentence.close();
    label(null);
    element.classList.remove("trying");
    viewer.choose([]);
    laying.close();
    section.close();
    picks = [];
    between = [];
    if (asked) load();
    drawOverlay();
  },
});
const section = startSection({
  viewer,
  release: () => tray.release(),
  scale: unit === "in" ? 1 / 25.4 : 1,
  word: unit,
});
const laying = startLaying({ viewer, release: () => tray.release() });

overlay.addEventListener("click", (event) => {
  const name = event.target.dataset?.pick;
  if (name) sentence.toggle({ sketch: event.target.closest("[data-sketch]").dataset.sketch, name });
});
overlay.addEventListener("keydown", (event) => {
  if (event.key === " ") {
    event.preventDefault();
    event.target.dispatchEvent(new MouseEvent("click", { bubbles: true }));
  }
});

startKeyPoint(canvas);
let turned = false;
const onView = (event) => event.target === canvas || event.target === overlay;
followView(element, {
  zoom: (factor) => viewer.zoomBy(factor),
  shift: (dx, dy) => viewer.panBy(dx, dy),
  moved() {
    turned = true;
  },
});
followDrag(element, {
  begin(event) {
    turned = false;
    return onView(event) && { at: [event.clientX, event.clientY] };
  },
  move(held, event) {
    turned = true;
    const way = [event.clientX - held.at[0], event.clientY - held.at[1]];
    event.shiftKey || event.buttons & 4 ? viewer.panBy(...way) : viewer.turnBy(...way);
    held.at = [event.clientX, event.clientY];
  },
  still: 4,
});
element.addEventListener("pointermove", (event) => {
  if (!event.buttons) point(event);
});

const pixelOf = (event) => {
  const box = canvas.getBoundingClientRect();
  return [event.clientX - box.left, event.clientY - box.top];
};
const flatAt = (pixel) => {
  const found = viewer.faceAt(pixel);
  return found && state.faces.find((face) => face.body === found.body && face.name === found.name);
};

/** The corner, edge or face under a place, the smallest first. @param {number[]} pixel */
function thingAt(pixel) {
  const corner = viewer.cornerAt(pixel, 9);
  if (corner) return { body: corner.body, kind: "corner", name: corner.corner };
  const edge = viewer.edgeAt(pixel, 6);
  if (edge) return { ...edge, kind: "edge" };
  const face = viewer.faceAt(pixel);
  return face && { ...face, kind: "face" };
}

/** Sizes of what is clicked, and with a second click those between the two. @param {number[]} pixel */
async function measure(pixel) {
  const thing = thingAt(pixel);
  if (!thing) return tell("Nothing there; click a face, an edge or a corner of the solid.");
  picks = [...picks.slice(picks.length === 2 ? 2 : 0), thing];
  tell("Measuring …");
  const found = await send("solid/measure", { picks, until }).catch((problem) => say(problem.message, true));
  if (!found || tray.current() !== "measure") return;
  between = found.between;
  const all = picks.filter((one) => one.kind === "edge").map((one) => `${one.body} ${one.name}`);
  viewer.choose(all);
  const sizes = found.measures.map(({ word, size }) => `${word} ${size}`).join(", ");
  tell(picks.length === 1 ? "Click a second thing to measure between both." : "Click a thing to measure anew.");
  say(`${picks.map(called).join(", ")}: ${sizes}.`, false, mayChange ? found.measures.map(toKeep(picks)) : []);
  drawOverlay();
}

/** A button that keeps a size in the Ledger, where it is read off anew. @param {any[]} of */
const toKeep =
  (of) =>
  ({ word }) => ({ words: `Keep ${word}`, run: () => command("ledger.measure", { picks: of, word }) });

/** A thing in words. @param {{ kind: string, name: string }} thing */
const called = ({ kind, name }) =>
  ({ face: faceWords, edge: edgeWords, corner: cornerWords })[kind](name, state.numbers);

/** What would be taken is named before the click. @param {PointerEvent} event */
function point(event) {
  if (tray.current() === "measure" && event.target === canvas) {
    const thing = thingAt(pixelOf(event));
    return label(thing && called(thing), pixelOf(event));
  }
  if (!sentence.isOpen || event.target !== canvas) return label(null);
  const pixel = pixelOf(event);
  const kind = sentence.kind;
  const named = (words, name) => label(name && words(name, state.numbers), pixel);
  if (kind === "plane") label(flatAt(pixel)?.words, pixel);
  else if (kind === "edges" || kind === "axis") named(edgeWords, viewer.edgeAt(pixel)?.name);
  else if (kind === "faces") named(faceWords, viewer.faceAt(pixel)?.name);
  else if (kind === "corners") named(cornerWords, viewer.cornerAt(pixel)?.corner);
  else if (kind === "body") label(state.bodies.find((body) => body.id === viewer.faceAt(pixel)?.body)?.name, pixel);
  else label(null);
}

function label(words, pixel) {
  pointed ??= element.appendChild(Object.assign(document.createElement("p"), { className: "pointed" }));
  pointed.hidden = !words;
  if (!words) return;
  pointed.textContent = words.length > 60 ? `${words.slice(0, 58)} …` : words;
  pointed.style.left = `${Math.min(pixel[0] + 36, element.clientWidth - pointed.offsetWidth - 12)}px`;
  pointed.style.top = `${pixel[1] + 36}px`;
}

canvas.addEventListener("click", (event) => {
  if (turned) return;
  const pixel = pixelOf(event);
  if (tray.current() === "lay") return laying.click(pixel);
  if (tray.current() === "measure") return measure(pixel);
  if (!sentence.isOpen) return;
  const kind = sentence.kind;
  if (kind === "corners") {
    const corner = viewer.cornerAt(pixel);
    return corner ? sentence.toggle(corner) : tell("No corner there; click closer to a corner of the solid.");
  }
  if (kind === "edges" || kind === "axis") {
    const edge = viewer.edgeAt(pixel);
    return edge ? sentence.toggle(edge) : tell("No edge there; click closer to an edge of the solid.");
  }
  const face = viewer.faceAt(pixel);
  if (kind === "faces") return face ? sentence.toggle(face) : tell("No face there; click on the solid.");
  if (kind === "body") return face ? sentence.toggle(face.body) : tell("No body there; click on the solid.");
  if (kind !== "plane") return;
  const flat = flatAt(pixel);
  if (!flat) return tell(face ? "That face is not flat; choose a flat one." : "No face there; click on the solid.");
  sentence.toggle({ body: flat.body, face: flat.name });
});
canvas.addEventListener("keydown", (event) => {
  const way = { ArrowLeft: [-12, 0], ArrowRight: [12, 0], ArrowUp: [0, -12], ArrowDown: [0, 12] }[event.key];
  if (way) {
    event.preventDefault();
    event.shiftKey ? viewer.panBy(...way) : viewer.turnBy(...way);
  }
  if (event.key === "+" || event.key === "-") viewer.zoomBy(event.key === "+" ? 1.2 : 1 / 1.2);
});

const renew = startSheet(sheet, {
  reload: load,
  buildTo,
  takes(name) {
    if (!sentence.isOpen || sentence.kind !== "operations" || !state.operations[name]) return false;
    sentence.toggle(name);
    drawPicks();
    return true;
  },
  edit(name, blank, added) {
    const operation = state.operations[name];
    tray.release();
    sentence.open(operation.kind, { name, filled: operation.filled }, blank, added);
    drawPicks();
  },
  hide(body) {
    hidden.has(body) ? hidden.delete(body) : hidden.add(body);
    sessionStorage.setItem("hidden", JSON.stringify([...hidden]));
    viewer.look(looks());
  },
  isHidden: (body) => hidden.has(body),
});

startPanel({ takeTool: (name) => tray.choose(name) });
onChanged(load);
onTyped(load);
/** While nothing is built yet, what Extrude would give is built ahead, as it is most likely what comes next. */
function ahead() {
  const sent = mayChange && !Object.keys(state.operations).length && sentence.ahead("extrude");
  if (sent) send("solid/preview", { ...sent, unit, version: version() }).catch(() => {});
}

load().then(
  () => {
    if (location.hash) tray.choose(location.hash.slice(1));
    else ahead();
  },
  (problem) => say(problem.message, true),
);
