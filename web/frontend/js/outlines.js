// Finding outlines: live preview for a threshold, choosing what to keep, tracing in the worker.

import { ask, command, say, send } from "./talk.js";
import { shape } from "./board.js";
import { tell } from "./tray.js";

const form = document.getElementById("outlines");
const found = document.getElementById("found");
const progress = document.getElementById("progress");
const stop = form.querySelector("[data-stop]");

/** @param {{ board: import("./board.js").Board, tray: any, hasScale: () => boolean }} parts */
export function startOutlines({ board, tray, hasScale }) {
  let outlines = [];
  let left = new Set();
  let asking = false;
  let again = false;
  let task = null;

  const settings = () => ({
    threshold: Number(form.elements.threshold.value) / 100,
    part: form.elements.part.value,
    tolerance: form.elements.tolerance.value,
    speck: Number(form.elements.speck.value.replace(",", ".")) || 0,
  });
  const keyOf = (outline) => outline.key.map((value) => Math.round(value / 12)).join(" ");
  const kept = () => outlines.filter((outline) => !left.has(keyOf(outline)));

  function draw() {
    board.world.replaceChildren();
    if (form.hidden) return;
    for (const outline of outlines) {
      const out = left.has(keyOf(outline));
      const path = shape("path", { class: `found-outline${outline.hole ? " hole" : ""}${out ? " out" : ""}`, d: outline.d, transform: "scale(1 -1)", tabindex: 0, role: "checkbox", "aria-checked": String(!out), "aria-label": `Outline of ${outline.area_mm2.toFixed(1)} square millimetres` });
      path.addEventListener("click", (event) => { event.stopPropagation(); toggle(outline); });
      path.addEventListener("keydown", (event) => { if (event.key === " " || event.key === "Enter") { event.preventDefault(); toggle(outline); } });
      board.world.append(path);
    }
  }

  function toggle(outline) {
    const key = keyOf(outline);
    left.has(key) ? left.delete(key) : left.add(key);
    count();
    draw();
  }

  function count() {
    const some = kept();
    const holes = some.filter((outline) => outline.hole).length;
    found.textContent = `${outlines.length} found; ${some.length} kept${holes ? `, ${holes} of them holes` : ""}. Click one to leave it out or keep it.`;
    form.elements.accept.disabled = !some.length;
  }

  /** Ask for the preview; while one is under way, only the newest wish waits. */
  async function preview() {
    form.elements.shown.value = `${form.elements.threshold.value} %`;
    if (asking) {
      again = true;
      return;
    }
    asking = true;
    try {
      const fresh = (await send("reference/outlines", settings())).outlines;
      for (const outline of fresh) if (outline.border && !outlines.some((one) => keyOf(one) === keyOf(outline))) left.add(keyOf(outline));
      outlines = fresh;
      say("");
      count();
    } catch (problem) {
      outlines = [];
      found.textContent = "";
      form.elements.accept.disabled = true;
      say(problem.message, true);
    }
    asking = false;
    draw();
    if (again) {
      again = false;
      preview();
    }
  }

  /** Shift the picture so that the card does not cover it. */
  function besideCard() {
    if (!board.box) return;
    const [left, low, right, high] = board.box;
    const share = (form.offsetWidth + 32) / board.size[0];
    board.fit([left, low, right + ((right - left) * share) / (1 - share), high], 0.03);
    board.box = [left, low, right, high];
  }

  async function follow() {
    while (task && ["waiting", "running"].includes(task.status)) {
      progress.textContent = `Tracing at full resolution, ${task.seconds} s …`;
      task = await ask(`work/${task.task}`);
    }
    return task;
  }

  async function accept() {
    form.elements.accept.disabled = true;
    progress.hidden = stop.hidden = false;
    progress.textContent = "Tracing at full resolution …";
    try {
      task = await send("reference/trace", { ...settings(), keep: kept().map((outline) => outline.key) });
      const ended = await follow();
      if (ended?.status === "done") {
        const done = await command("reference.accept_trace", { task: ended.task });
        if (done) {
          tray.release();
          say(`${done.told}. Open Sketch to work with them.`);
        }
      } else if (ended?.problem) say(ended.problem, true);
    } catch (problem) {
      say(problem.message, true);
    }
    task = null;
    progress.hidden = stop.hidden = true;
    form.elements.accept.disabled = !kept().length;
  }

  form.addEventListener("input", preview);
  form.addEventListener("submit", (event) => { event.preventDefault(); accept(); });
  form.querySelector("[data-close]").addEventListener("click", () => tray.release());
  stop.addEventListener("click", async () => { if (task) task = await send(`work/${task.task}/cancel`, {}); });

  return {
    draw,
    open() {
      if (!hasScale()) {
        tray.release();
        return say("Set a known length first, so that outlines have a size.", true);
      }
      form.hidden = false;
      left = new Set();
      outlines = [];
      found.textContent = "Looking …";
      besideCard();
      tell("Move the threshold until the outlines sit on the edges; click an outline to leave it out or keep it.");
      preview();
    },
    close() {
      form.hidden = true;
      board.world.replaceChildren();
    },
  };
}
