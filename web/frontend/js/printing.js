// What a simulated printer takes for the part, and its layers one by one.

import { address, isOpen, send } from "./talk.js";

const AGAIN_MS = 150;
const ROOM = 0.06;
const note = /** @type {HTMLElement} */ (document.getElementById("print-note"));
const out = /** @type {HTMLElement} */ (document.getElementById("print-out"));
const slider = /** @type {HTMLInputElement} */ (document.getElementById("layer-number"));
const svg = /** @type {SVGSVGElement} */ (/** @type {unknown} */ (document.getElementById("layer")));
let layers = [];
let asked = 0;

function time(seconds) {
  const minutes = Math.round(seconds / 60);
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")} min`;
}

function draw() {
  const at = Number(slider.value);
  const [height, part, hangs] = layers[at - 1];
  const under = layers[at - 2]?.[1] ?? "";
  document.getElementById("layer-at").textContent = `${at} of ${layers.length}, at ${height.toFixed(2)} mm`;
  svg.innerHTML = `<path class="part" d="${part}"/><path class="under" d="${under}"/><path class="hangs" d="${hangs}"/>`;
}

/** The view shows the widest layer whole. */
function fit() {
  const probe = document.createElementNS("http://www.w3.org/2000/svg", "path");
  svg.replaceChildren(probe);
  probe.setAttribute("d", layers.map(([, part]) => part).join(""));
  const { x, y, width, height } = probe.getBBox();
  const room = ROOM * Math.max(width, height, 1);
  svg.setAttribute("viewBox", `${x - room} ${y - room} ${width + 2 * room} ${height + 2 * room}`);
}

/** Have the part printed again, as it is now. */
export async function printAgain() {
  const mine = ++asked;
  const { work, told } = await send("release/print", {}).catch((problem) => ({ work: { problem: problem.message } }));
  if (mine !== asked) return;
  if (isOpen(work)) return void setTimeout(() => mine === asked && printAgain(), AGAIN_MS);
  out.hidden = !told;
  note.textContent = told ? "" : work?.problem || "There is no body to print yet.";
  if (!told) return;
  layers = await (await fetch(address(`release/layers/${work.task}`))).json();
  const shown = slider.max === String(told.layers) ? slider.value : String(Math.ceil(told.layers / 2));
  slider.max = String(told.layers);
  slider.value = shown;
  fit();
  draw();
  const rows = [
    ["Time", time(told.seconds)],
    ["Filament", `${told.grams.toFixed(1)} g, ${told.metres.toFixed(2)} m`],
    ["Material cost", told.cost.toFixed(2)],
    ["Layers", String(told.layers)],
  ];
  document.getElementById("taken").innerHTML = rows
    .map(([name, value]) => `<dt>${name}</dt><dd>${value}</dd>`)
    .join("");
  if (told.hanging.length)
    note.textContent = `Over nothing, so that it needs support (red): layer${told.hanging.length > 1 ? "s" : ""} ${runs(told.hanging)}.`;
}

/** Numbers as runs: 3, 7 to 9. @param {number[]} numbers */
function runs(numbers) {
  const found = [];
  for (const one of numbers) {
    const last = found.at(-1);
    if (last && one === last[1] + 1) last[1] = one;
    else found.push([one, one]);
  }
  const words = found.map(([first, last]) => (first === last ? String(first) : `${first} to ${last}`));
  return words.length > 6 ? `${words.slice(0, 6).join(", ")} and more` : words.join(", ");
}

export function startPrinter() {
  slider.addEventListener("input", draw);
}
