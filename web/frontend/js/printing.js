// What a simulated printer takes for the part, and its layers one by one.

import { list, standIn, time } from "./standins.js";

const ROOM = 0.06;
const slider = /** @type {HTMLInputElement} */ (document.getElementById("layer-number"));
const svg = /** @type {SVGSVGElement} */ (/** @type {unknown} */ (document.getElementById("layer")));
let layers = [];

function draw() {
  const at = Number(slider.value);
  const [height, part, hangs, bridges] = layers[at - 1];
  const under = layers[at - 2]?.[1] ?? "";
  document.getElementById("layer-at").textContent = `${at} of ${layers.length}, at ${height.toFixed(2)} mm`;
  svg.innerHTML = `<path class="part" d="${part}"/><path class="under" d="${under}"/><path class="hangs" d="${hangs}"/><path class="bridges" d="${bridges}"/>`;
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
export const printAgain = standIn("print", {
  out: "print-out",
  note: "print-note",
  none: "There is no body to print yet.",
  show(told, shown) {
    layers = shown;
    const at = slider.max === String(told.layers) ? slider.value : String(Math.ceil(told.layers / 2));
    slider.max = String(told.layers);
    slider.value = at;
    fit();
    draw();
    list("taken", [
      ["Time", time(told.seconds)],
      ["Filament", `${told.grams.toFixed(1)} g, ${told.metres.toFixed(2)} m`],
      ["Material cost", told.cost.toFixed(2)],
      ["Layers", String(told.layers)],
    ]);
    const layer = (numbers) => `layer${numbers.length > 1 ? "s" : ""} ${runs(numbers)}.`;
    const hangs = told.hanging.length ? `Over nothing, so that it needs support (red): ${layer(told.hanging)} ` : "";
    const bridges = told.bridges.length
      ? `Held at both ends, so that the machine spans it (dark): ${layer(told.bridges)}`
      : "";
    return hangs + bridges;
  },
});

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
