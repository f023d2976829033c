// The sheet of a simulated cutter, and the way of its tool as it goes along.

import { list, standIn, time } from "./standins.js";
import { mayChange, unit } from "./talk.js";

const PLAY_MS = 9000;
const slider = /** @type {HTMLInputElement} */ (document.getElementById("cut-time"));
const svg = /** @type {SVGSVGElement} */ (/** @type {unknown} */ (document.getElementById("sheet")));
const allow = /** @type {HTMLButtonElement} */ (document.getElementById("cut-allow"));
const play = /** @type {HTMLButtonElement} */ (document.getElementById("cut-play"));
/** Moves of the tool: its path, and from when to when. @type {{ path: SVGPathElement, begin: number, end: number }[]} */
let moves = [];
let whole = 0;
let playing = 0;
let wanted = "";

/** Show the sheet as it is at the time of the slider. */
function draw() {
  const now = (Number(slider.value) / Number(slider.max)) * whole;
  document.getElementById("cut-at").textContent = time(now);
  for (const { path, begin, end } of moves) {
    const share = Math.min(Math.max((now - begin) / Math.max(end - begin, 1e-9), 0), 1);
    path.style.display = now < begin ? "none" : "";
    path.style.strokeDasharray = share < 1 ? `${share} 1` : "";
  }
}

function stop() {
  cancelAnimationFrame(playing);
  playing = 0;
  play.textContent = "Play";
}

function start() {
  const from = Number(slider.value) < Number(slider.max) ? Number(slider.value) / Number(slider.max) : 0;
  const begun = performance.now() - from * PLAY_MS;
  play.textContent = "Stop";
  const step = (/** @type {number} */ at) => {
    const share = Math.min((at - begun) / PLAY_MS, 1);
    slider.value = String(share * Number(slider.max));
    draw();
    if (share < 1) playing = requestAnimationFrame(step);
    else stop();
  };
  playing = requestAnimationFrame(step);
}

/** Have the part cut again, as it is now. */
export const cutAgain = standIn("cut", {
  out: "cut-out",
  note: "cut-note",
  none: "There is nothing flat to cut yet.",
  show(told, shown) {
    stop();
    const [width, height] = shown.sheet;
    svg.setAttribute("viewBox", `-2 -2 ${width + 4} ${height + 4}`);
    svg.innerHTML = `<rect class="blank" width="${width}" height="${height}"/><path class="part" d="${shown.parts}"/>`;
    moves = shown.moves.map(([cuts, d, begin, end]) => {
      const path = document.createElementNS("http://www.w3.org/2000/svg", "path");
      path.setAttribute("class", cuts ? "cut" : "rapid");
      path.setAttribute("d", d);
      path.setAttribute("pathLength", "1");
      svg.append(path);
      return { path, begin, end };
    });
    whole = told.seconds;
    draw();
    list("cut-taken", [
      ["Time a sheet", time(told.seconds)],
      ["Cut", `${told.metres.toFixed(2)} m`],
      ["Copies on it", `${told.copies} (room for ${told.most})`],
      ["Sheets", String(told.sheets)],
      ["Used of it", `${told.used} ${unit}`],
    ]);
    wanted = told.wanted;
    allow.hidden = !wanted || !mayChange;
    return told.words;
  },
});

/** @param {(name: string, text: string) => void} set what sets an allowance */
export function startCutter(set) {
  allow.addEventListener("click", () => set("kerf", wanted));
  slider.addEventListener("input", () => {
    stop();
    draw();
  });
  play.addEventListener("click", () => (playing ? stop() : start()));
}
