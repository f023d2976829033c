// Clean-up as a list of steps: a preview while a number changes, the full size in the background.

import { address, ask, command, isOpen, say, send } from "./talk.js";
import { shape } from "./board.js";
import { followDrag } from "./gestures.js";

const card = document.getElementById("clean");
const list = card.querySelector("[data-steps]");
const DRAWING = new Set(["crop", "erase", "paint"]);
const BRUSH_PX = 9;
const FIELDS = {
  crop: [],
  paint: [],
  even: [["reach_percent", "Reach, % of the picture", 2, 60, 1]],
  background: [["margin_mm", "Kept around the part, mm", 0.5, 20, 0.5]],
  specks: [["area_mm2", "Smaller than, mm²", 0, 50, 0.5]],
  holes: [
    ["area_mm2", "Holes smaller than, mm²", 0, 50, 0.5],
    ["crack_mm", "Cracks narrower than, mm", 0, 3, 0.1],
  ],
};
const FIRST = {
  even: { reach_percent: 25 },
  background: { margin_mm: 3 },
  specks: { area_mm2: 2 },
  holes: { area_mm2: 2, crack_mm: 0.5 },
};
const NAMES = {
  crop: "Crop",
  even: "Even out the light",
  background: "Remove the background",
  specks: "Drop specks",
  holes: "Fill holes and cracks",
  paint: "Paint and erase",
};

/** @param {{ board: import("./board.js").Board, tray: any, note: HTMLElement, restore: () => void, redraw: () => void }} parts */
export function startCleaning({ board, tray, note, restore, redraw }) {
  let state = null;
  let pose = null;
  let stroke = null;
  let round = 0;
  let previewing = false;
  let again = null;
  let refused = false;
  let shown = "";

  const pictureUrl = () => board.element.dataset.pictureUrl.replace("DIGEST", state.picture.digest);
  const size = () => [state.picture.width, state.picture.height];
  const lay = (picture) => board.setPictures([{ ...picture, matrix: pose.matrix, size: size() }]);

  /** While a preview is under way only the newest wish waits. */
  async function preview(steps) {
    if (previewing) {
      again = steps;
      return;
    }
    previewing = true;
    try {
      const response = await fetch(address("reference/preview"), {
        method: "POST",
        body: JSON.stringify({ steps }),
        headers: {
          "Content-Type": "application/json",
          Accept: "application/json",
          "X-CSRFToken": document.body.dataset.csrf,
        },
      });
      if (!response.ok) throw new Error((await response.json()).problem);
      await lay({ image: await createImageBitmap(await response.blob()) });
      if (refused) say("");
      refused = false;
    } catch (problem) {
      refused = true;
      say(problem.message, true);
    }
    previewing = false;
    if (again) {
      const next = again;
      again = null;
      preview(next);
    }
  }

  /** The cleaned picture at full size, from the worker. */
  async function fullSize() {
    const mine = ++round;
    let task = await send("reference/clean", {});
    while (isOpen(task) && mine === round) {
      note.textContent = `Cleaning up at full size, ${Math.round(task.progress * 100)} % …`;
      task = await ask(`work/${task.task}`);
    }
    if (mine !== round) return;
    restore();
    if (task.status === "done") await lay({ url: address(`reference/cleaned/${task.task}`) });
    else if (task.problem) say(task.problem, true);
  }

  function refresh() {
    if (state.picture.cleaned) {
      preview(state.picture.steps);
      return fullSize().catch((problem) => say(problem.message, true));
    }
    round++;
    return lay({ url: pictureUrl() });
  }

  const changed = (index, fields) =>
    state.picture.steps.map((step, at) => (at === index ? { ...step, ...fields } : step));
  const store = (index, fields) =>
    command("reference.set_step", { index, step: { ...state.picture.steps[index], ...fields } });

  function field(step, index, [name, words, low, high, pace]) {
    const label = document.createElement("label");
    const output = Object.assign(document.createElement("output"), { textContent: String(step[name]) });
    const input = Object.assign(document.createElement("input"), {
      type: "range",
      min: low,
      max: high,
      step: pace,
      value: step[name],
    });
    label.append(words, " ", output, input);
    input.addEventListener("input", () => {
      output.textContent = input.value;
      preview(changed(index, { [name]: Number(input.value) }));
    });
    input.addEventListener("change", () => store(index, { [name]: Number(input.value) }));
    return label;
  }

  function row(step, index) {
    const item = document.createElement("div");
    item.className = "step";
    const head = document.createElement("p");
    const toggle = Object.assign(document.createElement("input"), { type: "checkbox", checked: step.on });
    toggle.addEventListener("change", () => store(index, { on: toggle.checked }));
    const label = document.createElement("label");
    const more = step.kind === "paint" ? `, ${step.strokes.length} stroke${step.strokes.length > 1 ? "s" : ""}` : "";
    label.append(toggle, `${index + 1} ${NAMES[step.kind]}${more}`);
    const remove = Object.assign(document.createElement("button"), {
      type: "button",
      textContent: "✕",
      ariaLabel: `Take away ${NAMES[step.kind].toLowerCase()}`,
    });
    remove.addEventListener("click", () => command("reference.remove_step", { index }));
    head.append(label, remove);
    item.append(head, ...FIELDS[step.kind].map((one) => field(step, index, one)));
    return item;
  }

  function fill() {
    const steps = state?.picture?.steps ?? [];
    list.replaceChildren(...steps.map(row));
    if (!steps.length)
      list.append(
        Object.assign(document.createElement("p"), {
          textContent: "No step yet. The picture itself always stays as it is.",
        }),
      );
  }

  card.querySelector("[data-close]").addEventListener("click", () => tray.release());
  card.querySelector("[data-add]").addEventListener("click", () => {
    const kind = card.querySelector("select").value;
    DRAWING.has(kind) ? tray.choose(kind) : command("reference.add_step", { step: { kind, ...FIRST[kind] } });
  });

  const at = (event) => pose.toPx(board.at(event));
  followDrag(board.svg, {
    begin(event) {
      if (!DRAWING.has(tray.current()) || event.button !== 0) return null;
      return (stroke = { tool: tray.current(), points: [at(event)], radius: BRUSH_PX / board.view.zoom });
    },
    move(held, event) {
      if (held.tool === "crop") held.points[1] = at(event);
      else held.points.push(at(event));
      redraw();
    },
    async end(done) {
      stroke = null;
      redraw();
      if (done.tool === "crop") await crop(done.points);
      else await paint(done);
    },
    cancel() {
      stroke = null;
      redraw();
    },
  });

  const last = (kind) => state.picture.steps.findLastIndex((step) => step.kind === kind);

  async function crop(points) {
    if (points.length < 2) return;
    const [xs, ys] = [0, 1].map((axis) => points.map((point) => point[axis]));
    const box = [Math.min(...xs), Math.min(...ys), Math.max(...xs), Math.max(...ys)];
    box[0] = Math.max(0, box[0]);
    box[1] = Math.max(0, box[1]);
    const index = last("crop");
    if (await (index < 0 ? command("reference.add_step", { step: { kind: "crop", box } }) : store(index, { box })))
      tray.choose("clean");
  }

  async function paint({ tool, points, radius }) {
    const stroke = {
      points: points.filter((_, index) => index % 2 === 0 || index === points.length - 1),
      radius,
      tone: tool === "paint" ? "part" : "ground",
    };
    const index = last("paint");
    const strokes = [...(index < 0 ? [] : state.picture.steps[index].strokes), stroke];
    await (index < 0 ? command("reference.add_step", { step: { kind: "paint", strokes } }) : store(index, { strokes }));
  }

  return {
    draws: (name) => DRAWING.has(name),
    show(now, nowPose) {
      state = now;
      pose = nowPose;
      fill();
      const wanted = JSON.stringify([state.picture.digest, state.picture.cleaned, pose.matrix]);
      if (wanted !== shown) refresh();
      shown = wanted;
    },
    open() {
      card.hidden = false;
      fill();
    },
    close() {
      card.hidden = true;
    },
    /** The box or stroke being drawn. */
    marks() {
      if (!stroke) return [];
      const places = stroke.points.map((point) => board.toScreen(pose.toWorld(point)));
      if (stroke.tool === "crop") {
        if (places.length < 2) return [];
        const [[x0, y0], [x1, y1]] = places;
        return [
          shape("rect", {
            class: "crop-box",
            x: Math.min(x0, x1),
            y: Math.min(y0, y1),
            width: Math.abs(x1 - x0),
            height: Math.abs(y1 - y0),
          }),
        ];
      }
      return [
        shape("path", {
          class: `brush ${stroke.tool}`,
          d: `M${places.map((place) => place.join(" ")).join("L")}`,
          "stroke-width": 2 * BRUSH_PX,
        }),
      ];
    },
  };
}
