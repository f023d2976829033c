// The Inspect stage: the part with its findings, each with its number at a leader line, and the remedies.

import { address, command, isOpen, mayChange, say, send, unit } from "./talk.js";
import { onChanged, refresh, startPanel } from "./panel.js";
import { startTray, tell } from "./tray.js";
import { shape } from "./board.js";
import { followDrag, followView } from "./gestures.js";
import { createViewer, LOOKS } from "./viewer.js";
import { unpack } from "./mesh.js";

const element = document.getElementById("board");
const canvas = element.querySelector("canvas.solid");
const overlay = element.querySelector("svg.drawing");
const note = document.getElementById("note");
const sheet = document.getElementById("sheet");
const viewer = createViewer(canvas);
const RESTING = "Point at a finding or turn the part. Numbers are measured on the exact solid.";
const AWAY = 64;
const ROUND = 11;
const ASK_AGAIN_MS = 60;
const KEY_TURN = 20;

let marks = [];
let shown = "";
let shownMesh = null;
let asked = 0;

async function load() {
  const mine = ++asked;
  const fresh = await send("inspect/findings", {});
  if (mine !== asked) return;
  const typing = sheet.contains(document.activeElement) && document.activeElement.matches("input");
  if (!typing) {
    sheet.innerHTML = fresh.sheet;
    clearAsking();
  }
  marks = fresh.marks;
  const busy = isOpen(fresh.work);
  if (fresh.work?.status === "failed") say(fresh.work.problem, true);
  if (fresh.mesh && fresh.mesh !== shownMesh) await showMesh(fresh.mesh);
  if (!fresh.mesh && !busy) viewer.show([]);
  viewer.look(Object.fromEntries(fresh.bodies.map((body) => [body.id, { colour: body.colour, hidden: false }])));
  if (!marks.some((one) => one.key === shown)) point("");
  viewer.later();
  if (busy) setTimeout(load, ASK_AGAIN_MS);
  else refresh();
}

async function showMesh(key) {
  const response = await fetch(address(`solid/mesh/${key}`));
  if (!response.ok) return;
  const first = shownMesh === null;
  viewer.show(unpack(await response.arrayBuffer()));
  shownMesh = key;
  element.dataset.mesh = key;
  if (first) viewer.fit();
}

/** Show one finding on the part. @param {string} key */
function point(key) {
  shown = key;
  for (const row of sheet.querySelectorAll(".finding")) row.classList.toggle("shown", row.dataset.key === key);
  const mark = marks.find((one) => one.key === key);
  viewer.chooseFaces(mark?.body ?? "", mark ? mark.faces : []);
  viewer.later();
}

/** The numbers around the part, each with a line to its place. */
function drawMarks() {
  const [width, height] = [canvas.clientWidth, canvas.clientHeight];
  overlay.replaceChildren();
  const taken = [];
  for (const mark of marks) {
    const [x, y] = viewer.toScreen(mark.place);
    const way = Math.hypot(x - width / 2, y - height / 2) || 1;
    let [u, v] = [(x - width / 2) / way, (y - height / 2) / way];
    if (way < 8) [u, v] = [0.7, 0.7];
    let spot = [x + AWAY * u, y + AWAY * v];
    // A number that would lie on another one is turned on around its place.
    for (
      let turn = 1;
      turn < 12 && taken.some((at) => Math.hypot(at[0] - spot[0], at[1] - spot[1]) < 2.4 * ROUND);
      turn++
    ) {
      const angle = Math.atan2(v, u) + ((turn % 2 ? 1 : -1) * Math.ceil(turn / 2) * Math.PI) / 7;
      spot = [x + AWAY * Math.cos(angle), y + AWAY * Math.sin(angle)];
    }
    spot = [
      Math.min(Math.max(spot[0], 2 * ROUND), width - 2 * ROUND),
      Math.min(Math.max(spot[1], 2 * ROUND), height - 2 * ROUND),
    ];
    taken.push(spot);
    const kind = `leader${mark.bad ? " bad" : ""}${mark.key === shown ? " shown" : ""}`;
    const group = shape("g", {
      class: kind,
      "data-mark": mark.key,
      role: "button",
      "aria-label": `Finding ${mark.number}`,
    });
    group.append(
      shape("line", { x1: x, y1: y, x2: spot[0], y2: spot[1] }),
      shape("circle", { cx: spot[0], cy: spot[1], r: ROUND }),
      shape("text", { x: spot[0], y: spot[1] + 4 }, mark.number),
    );
    overlay.append(group);
  }
  const degrees = (angle) => Math.round(((angle * 180) / Math.PI + 360) % 360);
  note.textContent = `turned ${degrees(-viewer.turn.about)}°, tipped ${degrees(viewer.turn.tip)}°`;
}
viewer.onRender(drawMarks);
overlay.addEventListener("click", (event) => {
  const mark = event.target.closest("[data-mark]");
  if (mark) point(mark.dataset.mark);
});

function clearAsking() {
  for (const one of sheet.querySelectorAll("form.accepting")) one.remove();
}

/**
 * Ask for a few words.
 * @param {string} words what is asked for
 * @param {string} button what takes it
 * @param {(form: HTMLFormElement) => void} place what puts it where it belongs
 * @param {(text: string) => Promise<any>} take gives something where it was taken
 */
function ask(words, button, place, take) {
  clearAsking();
  const form = document.createElement("form");
  form.className = "accepting";
  form.innerHTML = `<input name="text" placeholder="${words}" aria-label="${words}"> <button class="btn small">${button}</button>`;
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    if (!(await take(String(new FormData(form).get("text"))))) return;
    form.remove();
    load();
  });
  place(form);
  form.querySelector("input").focus();
}

/** @param {HTMLElement} button */
function askWhy(button) {
  const { accept: key, number } = button.dataset;
  const place = (form) => button.closest(".finding").append(form);
  ask("Why this is accepted", "Accept", place, (why) => command("inspect.accept", { key, number, why }));
}

/** Take a machine, keep the numbers as one, or forget one. @param {HTMLSelectElement} field */
async function takeMachine(field) {
  const { value, dataset } = /** @type {HTMLOptionElement} */ (field.selectedOptions[0]);
  const way = /** @type {HTMLSelectElement} */ (document.querySelector("#made-by [name=way]")).value;
  field.blur();
  if (value === "+")
    return ask(
      "Name of the machine",
      "Keep",
      (form) => field.closest("form").after(form),
      (title) => kept({ title }),
    );
  if (value === "-") await kept({ title: dataset.title, forget: true });
  else if (value) await command("inspect.machine", { way, title: value, numbers: JSON.parse(dataset.numbers) });
  load();
}

/** @param {object} sent */
const kept = (sent) => send("inspect/machines", sent).catch((problem) => say(problem.message, true));

sheet.addEventListener("click", async (event) => {
  const button = event.target.closest("button");
  if (!button) {
    const row = event.target.closest(".finding");
    return row && !event.target.closest("form") ? point(row.dataset.key === shown ? "" : row.dataset.key) : undefined;
  }
  if (button.dataset.show) return point(button.dataset.show);
  if (!mayChange && (button.dataset.accept || button.dataset.reopen || button.dataset.remedy))
    return say("You may look at this job but not change it.", true);
  if (button.dataset.accept) return askWhy(button);
  if (button.dataset.reopen && (await command("inspect.reopen", { key: button.dataset.reopen }))) return load();
  if (button.dataset.remedy && (await command(button.dataset.remedy, JSON.parse(button.dataset.arguments))))
    return load();
});
sheet.addEventListener("change", async (event) => {
  const field = event.target;
  if (field.name === "way") {
    if (await command("inspect.make", { way: field.value })) load();
    return;
  }
  if (field.name === "machine") return takeMachine(/** @type {HTMLSelectElement} */ (field));
  if (!field.dataset.was || field.value === field.dataset.was) return;
  const done = await command("inspect.set", { name: field.name, text: field.value, unit });
  if (!done) field.value = field.dataset.was;
  field.blur();
  load();
});
sheet.addEventListener("submit", (event) => event.preventDefault());

const tray = startTray({
  resting: RESTING,
  take(name) {
    if (name in LOOKS) viewer.turnTo(...LOOKS[name]);
    else if (name === "fit") viewer.fit();
    else if (name.startsWith("way-")) {
      if (mayChange) command("inspect.make", { way: name.slice(4) }).then((done) => done && load());
      else say("You may look at this job but not change it.", true);
    } else if (name.startsWith("lay-")) {
      const up = { "lay-drawn": [0, 0, 1], "lay-over": [0, 0, -1], "lay-front": [0, 1, 0], "lay-back": [0, -1, 0] }[
        name
      ];
      if (mayChange) command("inspect.lay", { up }).then((done) => done && load());
      else say("You may look at this job but not change it.", true);
    }
    tray.release();
  },
  drop() {
    tell(RESTING);
  },
});

followDrag(element, {
  begin: (event) => !event.target.closest("[data-mark]") && { at: [event.clientX, event.clientY] },
  move(held, event) {
    const way = [event.clientX - held.at[0], event.clientY - held.at[1]];
    event.shiftKey || event.buttons & 4 ? viewer.panBy(...way) : viewer.turnBy(...way);
    held.at = [event.clientX, event.clientY];
  },
});
followView(element, { zoom: (factor) => viewer.zoomBy(factor), shift: (dx, dy) => viewer.panBy(dx, dy) });
canvas.addEventListener("keydown", (event) => {
  const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
  if (!way) return;
  event.preventDefault();
  viewer.turnBy(way[0] * KEY_TURN, way[1] * KEY_TURN);
});
startPanel({ takeTool: (tool) => tray.choose(tool) });
onChanged(load);
load();
