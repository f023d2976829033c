// Finding outlines: live preview for a threshold, choosing what to keep, tracing in the worker.

import { ask, command, isOpen, say, send, unit } from "./talk.js";
import { shape } from "./board.js";
import { followDrag } from "./gestures.js";
import { tell } from "./tray.js";

const form = document.getElementById("outlines");
const found = document.getElementById("found");
const progress = document.getElementById("progress");
const stop = form.querySelector("[data-stop]");
const again = form.querySelector("[data-again]");
const swatches = form.querySelector("[data-colours]");
const strokeList = form.querySelector("[data-strokes]");
const STROKE_STEP_PX = 8;
const MOST_PLACES = 400;
const SLOW = new Set(["centre", "flat", "strokes"]);
const BY_LINE = new Set(["colour", "flat", "strokes"]);
const WHY = {
  frame: "the frame round the picture",
  double: "the inner side of a drawn line",
  mark: "labels and cross-hairs",
};

/** @param {{ board: import("./board.js").Board, tray: any, hasScale: () => boolean, pose: () => any, traces: () => any[] }} parts */
export function startOutlines({ board, tray, hasScale, pose, traces }) {
  let outlines = [];
  let left = new Set();
  let asking = false;
  let waiting = false;
  let task = null;
  let picked = [];
  let strokes = { part: [], ground: [] };
  let drawing = null;
  let typed = false;
  const reason = form.querySelector("[data-why]");

  const settings = () => ({
    mode: form.elements.mode.value,
    picked,
    strokes,
    reach: Number(form.elements.reach.value) / 100,
    flatten: form.elements.flatten.checked,
    threshold: Number(form.elements.threshold.value) / 100,
    part: form.elements.part.value,
    halves: ["centre", "strokes"].includes(form.elements.mode.value) ? "" : form.elements.halves.value,
    tolerance: form.elements.tolerance.value,
    speck: Number(form.elements.speck.value.replace(",", ".")) || 0,
    gap: Number(form.elements.gap.value.replace(",", ".")) || 0,
    sides: form.elements.sides.value,
  });
  const keyOf = (outline) => outline.key.map((value) => Math.round(value / 12)).join(" ");
  const kept = () => outlines.filter((outline) => !left.has(keyOf(outline)));

  /** The tolerance that the picture allows, until somebody types another. */
  function offer({ text, why }) {
    if (typed) return;
    form.elements.tolerance.value = text[unit];
    reason.textContent = `No finer is offered, since ${why}.`;
    reason.hidden = !why;
  }

  function draw() {
    board.world.replaceChildren();
    if (form.hidden) return;
    for (const outline of outlines) {
      const out = left.has(keyOf(outline));
      const looks = [
        ["hole", outline.hole],
        ["out", out],
        ["line-only", BY_LINE.has(form.elements.mode.value)],
        ["guessed", outline.seen != null],
      ];
      const path = shape("path", {
        class: ["found-outline", ...looks.filter(([, on]) => on).map(([name]) => name)].join(" "),
        d: outline.d,
        transform: `matrix(${pose().matrix.join(" ")})`,
        tabindex: 0,
        role: "checkbox",
        "aria-checked": String(!out),
        "aria-label": `Outline of ${outline.area_mm2.toFixed(1)} square millimetres`,
      });
      path.addEventListener("click", (event) => {
        event.stopPropagation();
        toggle(outline);
      });
      path.addEventListener("keydown", (event) => {
        if (event.key === " " || event.key === "Enter") {
          event.preventDefault();
          toggle(outline);
        }
      });
      board.world.append(path);
      if (outline.seen && !out)
        board.world.append(
          shape("path", { class: "seen-edge", d: outline.seen, transform: `matrix(${pose().matrix.join(" ")})` }),
        );
    }
    if (form.elements.mode.value !== "strokes") return;
    const all = Object.entries(strokes).flatMap(([side, some]) => some.map((places) => [side, places]));
    if (drawing) all.push([form.elements.side.value, drawing]);
    for (const [side, places] of all)
      board.world.append(
        shape("path", {
          class: `hand-stroke ${side}`,
          d: `M${places.map((place) => place.join(" ")).join("L")}`,
          transform: `matrix(${pose().matrix.join(" ")})`,
        }),
      );
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
    const widths = outlines
      .filter((outline) => outline.width_mm)
      .map((outline) => outline.width_mm)
      .sort((a, b) => a - b);
    const strokes = widths.length
      ? ` Strokes are about ${widths[Math.floor(widths.length / 2)].toFixed(2)} mm wide.`
      : "";
    const needless = [
      ...new Set(
        outlines
          .filter((outline) => outline.needless && left.has(keyOf(outline)))
          .map((outline) => WHY[outline.needless]),
      ),
    ];
    found.textContent = `${outlines.length} found; ${some.length} kept${holes ? `, ${holes} of them holes` : ""}.${strokes}${needless.length ? ` Left out: ${needless.join(" and ")}.` : ""} ${some.some((outline) => outline.seen != null) ? " Where a line is dashed, no edge is seen: nothing is traced there, and it stays to be followed by hand." : ""} Click ${BY_LINE.has(form.elements.mode.value) ? "the line of one" : "one"} to leave it out or keep it.`;
    form.elements.accept.disabled = !some.length;
  }

  /** What is still to be given before there is anything to look for, as a sentence; empty where nothing is. */
  function lacks() {
    const mode = form.elements.mode.value;
    if (mode === "colour" && !picked.length)
      return "Click the part on the Board to say which colour it has; click again for each further colour.";
    if (mode === "strokes" && !(strokes.part.length && strokes.ground.length))
      return `Drag a stroke along the ${strokes.part.length ? "ground around the part" : "part, over all that it shows: bright, dark and plain"}.`;
    return "";
  }

  /** Ask for the preview; while one is under way, only the newest wish waits. */
  async function preview() {
    form.elements.shown.value = `${form.elements.threshold.value} %`;
    form.elements.reached.value = form.elements.reach.value;
    const still = lacks();
    if (still) {
      outlines = [];
      count();
      draw();
      found.textContent = still;
      return;
    }
    if (asking) {
      waiting = true;
      return;
    }
    asking = true;
    if (SLOW.has(form.elements.mode.value)) found.textContent = "Looking …";
    try {
      const { outlines: fresh, offered } = await send("reference/outlines", settings());
      // Another way of finding was chosen meanwhile, which waits for a click or a stroke.
      if (!lacks()) {
        offer(offered);
        for (const outline of fresh)
          if ((outline.border || outline.needless) && !outlines.some((one) => keyOf(one) === keyOf(outline)))
            left.add(keyOf(outline));
        outlines = fresh;
        say("");
        count();
      }
    } catch (problem) {
      outlines = [];
      found.textContent = "";
      form.elements.accept.disabled = true;
      say(problem.message, true);
    }
    asking = false;
    draw();
    if (waiting) {
      waiting = false;
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
    while (isOpen(task)) {
      progress.textContent = `Tracing at full resolution, ${Math.round(task.progress * 100)} %, ${task.seconds} s …`;
      task = await ask(`work/${task.task}`);
    }
    return task;
  }

  /** Full resolution in the worker, then into the sketch: as a new trace, or in place of an earlier one. @param {string} [replaced] */
  async function accept(replaced) {
    form.elements.accept.disabled = again.disabled = true;
    progress.hidden = stop.hidden = false;
    progress.textContent = "Tracing at full resolution …";
    try {
      const asked = (task = await send("reference/trace", {
        ...settings(),
        keep: kept().map((outline) => outline.key),
      }));
      const ended = await follow();
      if (ended?.status === "done") {
        const done = await (replaced
          ? command("reference.trace_again", { trace: replaced, settings: asked.settings })
          : command("reference.accept_trace", { picture: asked.picture, settings: asked.settings }));
        if (done) {
          tray.release();
          say([`${done.told}.`, done.note, "Open Sketch to work with them."].filter(Boolean).join(" "));
        }
      } else if (ended?.problem) say(ended.problem, true);
    } catch (problem) {
      say(problem.message, true);
    }
    task = null;
    progress.hidden = stop.hidden = true;
    again.disabled = false;
    form.elements.accept.disabled = !kept().length;
  }

  function showFields() {
    const mode = form.elements.mode.value;
    for (const field of form.querySelectorAll("[data-for]"))
      field.hidden = !field.dataset.for.split(" ").includes(mode);
    form.querySelector("[data-speck]").textContent =
      mode === "centre" ? "Shortest stroke, its square in mm²" : "Smallest outline, mm²";
    swatches.replaceChildren(
      ...picked.map((place, index) => {
        const button = Object.assign(document.createElement("button"), {
          type: "button",
          className: "btn alt small",
          textContent: `Colour ${index + 1} ✕`,
          ariaLabel: `Take away colour ${index + 1}`,
        });
        button.addEventListener("click", () => {
          picked = picked.filter((_, at) => at !== index);
          showFields();
          preview();
        });
        return button;
      }),
    );
    strokeList.replaceChildren(
      ...Object.keys(strokes).flatMap((side) =>
        strokes[side].map((_, index) => {
          const button = Object.assign(document.createElement("button"), {
            type: "button",
            className: "btn alt small",
            textContent: `${side === "part" ? "Part" : "Ground"} ${index + 1} ✕`,
            ariaLabel: `Take away stroke ${index + 1} on the ${side}`,
          });
          button.addEventListener("click", () => {
            strokes[side] = strokes[side].filter((_, at) => at !== index);
            showFields();
            preview();
          });
          return button;
        }),
      ),
    );
  }

  const draws = () => !form.hidden && form.elements.mode.value === "strokes";
  const at = (event) =>
    pose()
      .toPx(board.at(event))
      .map((value) => Math.round(value * 10) / 10);

  followDrag(board.svg, {
    begin(event) {
      if (!draws() || event.button !== 0 || event.target.closest(".found-outline")) return null;
      return (drawing = [at(event)]);
    },
    move(places, event) {
      if (places.length >= MOST_PLACES) return;
      const [place, last] = [at(event), places.at(-1)];
      if (Math.hypot(place[0] - last[0], place[1] - last[1]) * board.view.zoom < STROKE_STEP_PX) return;
      places.push(place);
      draw();
    },
    end(done) {
      drawing = null;
      if (done.length < 3) return draw();
      strokes[form.elements.side.value].push(done);
      if (!strokes.ground.length) form.elements.side.value = "ground";
      showFields();
      draw();
      preview();
    },
    cancel() {
      drawing = null;
      draw();
    },
  });

  /** A click on the Board while colours are picked; whether it was taken. @param {number[]} place in picture pixels */
  function pick(place) {
    if (form.hidden || form.elements.mode.value !== "colour") return false;
    picked = [...picked, place];
    showFields();
    preview();
    return true;
  }

  form.elements.tolerance.addEventListener("input", () => {
    typed = true;
    reason.hidden = true;
  });
  form.addEventListener("input", () => {
    showFields();
    preview();
  });
  again.addEventListener("click", () => accept(traces().at(-1)?.id));
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    accept();
  });
  form.querySelector("[data-close]").addEventListener("click", () => tray.release());
  stop.addEventListener("click", async () => {
    if (task) task = await send(`work/${task.task}/cancel`, {});
  });

  /** The settings of the last trace of this picture, to begin with. */
  function remember() {
    const last = traces().at(-1)?.settings;
    again.hidden = !last;
    if (!last) return;
    form.elements.mode.value = last.mode ?? "tone";
    form.elements.threshold.value = Math.round(last.threshold * 100);
    form.elements.part.value = last.part ?? "auto";
    form.elements.flatten.checked = Boolean(last.flatten);
    form.elements.speck.value = last.speck_mm2;
    form.elements.gap.value = last.gap_mm ?? 0;
    form.elements.halves.value = last.halves ?? "";
    form.elements.sides.value = last.sides ?? "auto";
    strokes = { part: last.part_strokes ?? [], ground: last.ground_strokes ?? [] };
    form.elements.tolerance.value = `${last.tolerance_mm} mm`;
    typed = true;
  }

  return {
    draw,
    draws,
    pick,
    open() {
      if (!hasScale()) {
        tray.release();
        return say("Set a known length first, so that outlines have a size.", true);
      }
      form.hidden = false;
      left = new Set();
      outlines = [];
      found.textContent = "Looking …";
      remember();
      showFields();
      besideCard();
      tell(
        "Choose what the outlines are found by, until they sit on the edges; click an outline to leave it out or keep it.",
      );
      preview();
    },
    close() {
      form.hidden = true;
      board.world.replaceChildren();
    },
  };
}
