// The Solid stage: the Build sheet and the turning view.

import { address, command, mayChange, say, send, unit, version } from "./talk.js";
import { onChanged, onTyped, refresh, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { shape } from "./board.js";
import { followDrag, followView } from "./gestures.js";
import { startKeyPoint } from "./keypoint.js";
import { createViewer } from "./viewer.js";
import { unpack } from "./mesh.js";
import { startLaying } from "./laying.js";
import { createSentence } from "./sentence.js";
import { cornerWords, edgeWords } from "./words.js";
import { startSheet } from "./sheet.js";

const element = document.getElementById("board");
const canvas = element.querySelector("canvas.solid");
const overlay = element.querySelector("svg.drawing");
const note = document.getElementById("note");
const sheet = document.getElementById("sheet");
const viewer = createViewer(canvas);
const RESTING = "Drag to turn, Shift drag to shift, the wheel comes closer. Take a tool to add to the Build sheet.";
const VIEWS = {
  "view-turned": [-0.55, 0.95],
  "view-top": [0, 0],
  "view-front": [0, Math.PI / 2],
  "view-right": [Math.PI / 2, Math.PI / 2],
  "view-bottom": [0, Math.PI],
};
const hidden = new Set(JSON.parse(sessionStorage.getItem("hidden") ?? "[]"));

let state = {
  sketches: [],
  bodies: [],
  faces: [],
  planes: [],
  declared: {},
  operations: {},
  numbers: {},
  pictures: [],
  edges: [],
};
let shownMesh = null;
let asked = 0;
/** @type {(value?: any) => void} */
let isReady = () => {};
const ready = new Promise((then) => {
  isReady = then;
});
let pointed = null;

const sentence = createSentence({
  host: () => sheet.querySelector(".ops"),
  state: () => ({
    ...state,
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
  const fresh = await send("solid/build", {});
  if (mine !== asked) return;
  state = fresh;
  isReady();
  const typing = sheet.contains(document.activeElement) && document.activeElement.matches("input, select");
  if (!typing || sentence.isOpen) {
    const focus = sentence.isOpen ? document.activeElement?.dataset?.blank : null;
    sheet.innerHTML = fresh.sheet;
    sentence.keep();
    if (focus) sentence.form.querySelector(`[data-blank="${focus}"]`)?.focus();
  }
  const busy = fresh.work && ["waiting", "running"].includes(fresh.work.status);
  document.getElementById("working").textContent = busy ? `building, ${fresh.work.seconds} s …` : "";
  if (fresh.work?.status === "failed") say(fresh.work.problem, true);
  if (fresh.mesh && fresh.mesh !== shownMesh) await showMesh(fresh.mesh);
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
  const told = await send("solid/preview", { ...sent, unit, version: version() }).catch((problem) => ({
    problem: problem.message,
  }));
  if (mine !== asked || !sentence.isOpen) return;
  sentence.problem(told.problem ?? "");
  element.classList.toggle("trying", Boolean(told.mesh));
  if (told.mesh && told.mesh !== shownMesh) {
    await showMesh(told.mesh);
    fitIfNeeded();
  }
  if (told.work && ["waiting", "running"].includes(told.work.status))
    setTimeout(() => sentence.isOpen && mine === asked && preview(sent));
}

async function build({ kind, name, blanks, command: other, fixed }) {
  let done;
  if (other === "plane.add")
    done = await command(other, { kind: fixed.kind, fields: { ...blanks, ...fixed.fields }, unit });
  else if (other === "sketch.new") {
    done = await command(other, blanks);
    if (done) window.location.assign(address("sketch"));
  } else
    done = await (name ? command("solid.set", { name, blanks, unit }) : command("solid.add", { kind, blanks, unit }));
  if (done) tray.release();
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
  const picking = wanted === "regions" || wanted === "centres";
  const corners = sentence.isOpen ? sentence.picked("corners").flat() : [];
  const show = picking || corners.length || sentence.pointedAt?.corner || !state.bodies.length;
  overlay.toggleAttribute("hidden", !show);
  overlay.classList.toggle("pointer-events-none", !picking);
  overlay.replaceChildren(
    ...(picking || !state.bodies.length
      ? state.sketches.filter((sketch) => sketch.frame).map((sketch) => drawnSketch(sketch, wanted))
      : []),
  );
  for (const corner of corners) overlay.append(...ringAt(corner, "sel"));
  if (sentence.pointedAt?.corner) overlay.append(...ringAt(sentence.pointedAt, "at"));
  const { about, tip } = viewer.turn;
  const degrees = (value) => Math.round((value * 180) / Math.PI);
  note.textContent = element.classList.contains("trying")
    ? "as it would be"
    : `turned ${-degrees(about)}°, tipped ${degrees(tip)}°`;
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
  const isChosen = (name) => chosen?.sketch === sketch.id && chosen.names.includes(name);
  const point = sentence.pointedAt;
  const states = (name) =>
    `${isChosen(name) ? " sel" : ""}${point?.sketch === sketch.id && point.name === name ? " at" : ""}`;
  if (wanted === "regions")
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
        class: `curve${curve.construction ? " construction" : " free"}`,
        d: curve.d,
        "pointer-events": "none",
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
  const axes = sentence.isOpen ? sentence.picked("axis").filter((pick) => typeof pick === "object") : [];
  if (plane) viewer.chooseFace({ body: plane.body, name: plane.face });
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
    if (VIEWS[name]) {
      viewer.turnTo(...VIEWS[name]);
      return tray.release();
    }
    if (name === "fit") {
      viewer.fit(sketchBox());
      return tray.release();
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
    sentence.close();
    label(null);
    element.classList.remove("trying");
    viewer.choose([]);
    laying.close();
    if (asked) load();
    drawOverlay();
  },
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

/** What would be taken is named before the click. @param {PointerEvent} event */
function point(event) {
  if (!sentence.isOpen || event.target !== canvas) return label(null);
  const pixel = pixelOf(event);
  const kind = sentence.kind;
  const named = (words, name) => label(name && words(name, state.numbers), pixel);
  if (kind === "plane") label(flatAt(pixel)?.words, pixel);
  else if (kind === "edges" || kind === "axis") named(edgeWords, viewer.edgeAt(pixel)?.name);
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

startSheet(sheet, {
  reload: load,
  edit(name, blank) {
    const operation = state.operations[name];
    tray.release();
    sentence.open(operation.kind, { name, filled: operation.filled }, blank);
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
