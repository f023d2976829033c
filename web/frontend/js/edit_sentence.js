// An edit of the sketch being written in the Prompt: its words, its blanks, and what it would do, shown on the Board.

import { chainOf } from "./chain.js";
import { createHandles } from "./handles.js";
import { clauses, standing } from "./words.js";

const PREVIEW_MS = 140;
const NUMBERS = new Set(["length", "angle", "count", "factor"]);
const PICKED = new Set(["curves", "line", "corner", "spot", "own spot", "drawing"]);
const UNMARKED = new Set(["spot", "own spot", "drawing"]);

/** Whether nothing stands in a blank yet. @param {any} value */
const isOpen = (value) => value === undefined || value === null || value === "" || value?.length === 0;

/** @param {any[]} parts @returns {any[]} */
const every = (parts) => parts.flatMap((part) => (part.parts ? every(part.parts) : part.blank ? [part] : []));

/**
 * @param {{ board: any, drawing: any, caught: (place: number[], off: boolean) => any, ask: (path: string) => Promise<any>,
 *   send: (path: string, body: any) => Promise<any>, upload: (path: string, body: FormData) => Promise<any>,
 *   command: (name: string, args: any) => Promise<any>, choose: (ids: any) => void,
 *   release: () => void, say: (text: string, bad?: boolean) => void, unit: string }} hooks
 */
export function createEdits({ board, drawing, caught, ask, send, upload, command, choose, release, say, unit }) {
  const form = /** @type {HTMLFormElement} */ (document.getElementById("sentence"));
  const prompt = document.getElementById("prompt");
  const words = form.querySelector(".said-words");
  const told = form.querySelector(".asks");
  let declared = null;
  let known = null;
  let kind = "";
  let filled = {};
  let active = "";
  let timer = 0;
  let turn = 0;
  let opening = 0;
  /** What was done since a sentence was asked for that is not there yet, or null. @type {(() => void)[] | null} */
  let early = null;
  let looking = false;
  const files = new Map();
  const typed = new Set();

  const load = async () => (known ??= (await ask("sketch/edits")).edits);
  const parts = () => standing(declared.parts, filled);
  const blanks = () => parts().filter((part) => part.blank);
  const blank = (name) => every(declared.parts).find((part) => part.blank === name);
  const firstOpen = () => blanks().find((part) => isOpen(filled[part.blank]));
  const sent = () => Object.fromEntries(blanks().map((part) => [part.blank, filled[part.blank]]));

  function ink(text, bad = false) {
    told.textContent = text;
    told.classList.toggle("bad", bad);
  }

  function show() {
    const marked = every(declared.parts).flatMap((part) =>
      UNMARKED.has(part.kind) ? [] : PICKED.has(part.kind) ? (filled[part.blank] ?? []) : [],
    );
    choose(marked);
  }

  function activate(name) {
    active = name;
    for (const item of form.querySelectorAll("[data-blank]"))
      item.classList.toggle("next", /** @type {HTMLElement} */ (item).dataset.blank === name);
    const open = firstOpen();
    ink(`${blank(name)?.asks ?? ""}${open ? "" : " Enter does it."}`);
  }

  function fill(name, value) {
    filled = { ...filled, [name]: value };
    for (const part of blanks())
      if (filled[part.blank] === undefined) filled[part.blank] = part.usual ?? part.options?.[0][0] ?? outermost(part);
    show();
    later();
  }

  /** Of the points that a drawing is measured between, until others are picked: those farthest apart across it. */
  const outermost = (part) =>
    part.kind === "own spot" ? files.get(filled.drawing?.file)?.across[part.blank === "first" ? 0 : 1] : undefined;

  function later() {
    clearTimeout(timer);
    const mine = ++turn;
    if (firstOpen()) return wouldBe(null);
    if (!looking) timer = window.setTimeout(() => look(mine), PREVIEW_MS);
  }

  function wouldBe(found) {
    drawing.wouldBe(found);
    handles.show(found?.lying ?? null);
  }

  /** Show what it would do; what was changed meanwhile is looked at next. @param {number} mine */
  async function look(mine) {
    looking = true;
    try {
      const found = await send("sketch/preview", { kind, blanks: sent() });
      if (mine !== turn || !declared) return;
      wouldBe(found);
      ink(`${blank(active)?.asks ?? ""} Enter does it.`);
    } catch (problem) {
      if (mine !== turn || !declared) return;
      wouldBe(null);
      ink(problem.message, true);
    } finally {
      looking = false;
      if (mine !== turn && declared && !firstOpen()) look(turn);
    }
  }

  function wordsOf(part) {
    const value = filled[part.blank];
    if (isOpen(value)) return part.empty;
    if (part.kind === "curves") return value.length === 1 ? "1 curve" : `${value.length} curves`;
    if (Array.isArray(value)) return value.map((one) => (one * board.ruler.scale).toFixed(2)).join(", ");
    const curve = drawing.curve(value);
    return curve ? `${curve.kind} ${curve.id.slice(1)}` : `point ${String(value).slice(1)}`;
  }

  function field(part) {
    if (part.kind === "choice") {
      const select = Object.assign(document.createElement("select"), { ariaLabel: part.asks });
      select.append(...part.options.map(([key, text]) => new Option(text, key, false, key === filled[part.blank])));
      select.addEventListener("change", () => {
        fill(part.blank, select.value);
        draw(part.blank);
        // What this choice asks for is what the next click fills, while the keyboard stays here.
        const after = blanks().slice(blanks().findIndex((one) => one.blank === part.blank) + 1);
        const open = after.find((one) => isOpen(filled[one.blank])) ?? firstOpen();
        if (open) activate(open.blank);
      });
      return select;
    }
    if (NUMBERS.has(part.kind) || part.kind === "text") {
      const input = Object.assign(document.createElement("input"), {
        value: filled[part.blank] ?? "",
        ariaLabel: part.asks,
        autocomplete: "off",
        className: part.kind === "text" ? "words-in" : "",
      });
      input.addEventListener("input", () => {
        typed.add(part.blank);
        fill(part.blank, input.value);
      });
      return input;
    }
    if (part.kind === "drawing") return fileField(part);
    const open = isOpen(filled[part.blank]);
    const button = Object.assign(document.createElement("button"), {
      type: "button",
      className: `picked${open ? " empty" : ""}`,
      textContent: wordsOf(part),
      ariaLabel: `${part.asks} ${open ? "Empty." : wordsOf(part)}`,
    });
    button.addEventListener("click", () => activate(part.blank));
    return button;
  }

  /** A file to choose, and once it is read, which of its groups come in. */
  function fileField(part) {
    const value = filled[part.blank];
    const known = value && files.get(value.file);
    const box = document.createElement("span");
    const input = Object.assign(document.createElement("input"), {
      type: "file",
      accept: ".svg,.dxf",
      ariaLabel: part.asks,
      className: "visually-hidden",
    });
    const button = Object.assign(document.createElement("button"), {
      type: "button",
      className: `picked${known ? "" : " empty"}`,
      textContent: known?.name ?? part.empty,
      ariaLabel: `${part.asks} ${known ? known.name : "Empty."}`,
    });
    button.addEventListener("click", () => input.click());
    input.addEventListener("change", () => input.files?.[0] && read(part, input.files[0]));
    box.append(button, input);
    if (!known || known.groups.length < 2) return box;
    const groups = Object.assign(document.createElement("select"), { ariaLabel: "Which of its groups come in." });
    groups.append(
      new Option("all of it", "", false, value.group === ""),
      ...known.groups.map(([name, count]) => new Option(`${name}, ${count}`, name, false, value.group === name)),
    );
    groups.addEventListener("change", () => fill(part.blank, { ...value, group: groups.value }));
    box.append(" ", groups);
    return box;
  }

  /** Have a file read by the server; its own width is what is offered. @param {any} part @param {File} file */
  async function read(part, file) {
    const body = new FormData();
    body.append("drawing", file);
    ink(`Reading ${file.name} …`);
    try {
      const found = await upload("sketch/drawing", body);
      if (!declared) return;
      files.set(found.file, found);
      if (!typed.has("size")) [filled.size, filled.by] = [found.width, "width"];
      fill(part.blank, { file: found.file, group: "" });
      if (found.left_out.length) say(`Left out of ${found.name}, since it is no curve: ${found.left_out.join(", ")}.`);
      next();
    } catch (problem) {
      ink(problem.message, true);
    }
  }

  /** Write the sentence anew. @param {string} [focus] the blank that gets the keyboard */
  function draw(focus) {
    const nodes = [];
    for (const part of parts()) {
      if (part.text) {
        nodes.push(/^[,.;:]/.test(part.text) ? part.text : ` ${part.text}`);
        continue;
      }
      const item = field(part);
      item.dataset.blank = part.blank;
      nodes.push(" ", item);
    }
    for (const clause of clauses(declared.parts, filled)) {
      const there = !isOpen(filled[clause.first]);
      const offer = Object.assign(document.createElement("button"), {
        type: "button",
        className: "offer",
        textContent: `${there ? "−" : "+"} ${clause.clause}`,
      });
      offer.addEventListener("click", () => {
        fill(clause.first, there ? undefined : blank(clause.first).usual);
        draw(there ? undefined : clause.first);
      });
      nodes.push(" ", offer);
    }
    words.replaceChildren(...nodes);
    const wanted = focus ?? firstOpen()?.blank ?? active;
    activate(blanks().some((part) => part.blank === wanted) ? wanted : blanks()[0].blank);
    const item = focus && form.querySelector(`[data-blank="${focus}"]`);
    if (item instanceof HTMLInputElement) item.select();
    if (item instanceof HTMLElement) item.focus();
  }

  /** After something was picked: on to the next blank that is empty, by the keyboard too where it is typed. */
  function next() {
    const open = firstOpen() ?? blanks().find((part) => NUMBERS.has(part.kind));
    draw(open && !PICKED.has(open.kind) ? open.blank : undefined);
  }

  function pick(event, id) {
    const wanted = blanks().find((one) => PICKED.has(one.kind) && isOpen(filled[one.blank]));
    if (wanted && !PICKED.has(blank(active).kind)) activate(wanted.blank);
    const part = blank(active);
    const place = board.at(event);
    if (part.kind === "spot") {
      const point = caught(place, event.altKey);
      fill(active, point ? point.id : place);
      return next();
    }
    if (part.kind === "own spot") {
      const own = handles.own(place);
      if (!own) return say("Click one of the small rings: the points of the drawing itself.", true);
      fill(active, own);
      return next();
    }
    if (part.kind === "corner") {
      const point = drawing.point(id) ?? caught(place, false);
      if (!point) return say("Click a point at which two curves meet.", true);
      fill(active, point.id);
      return next();
    }
    const curve = drawing.curve(id) ?? drawing.data.shapes.curves.find((one) => one.points.includes(id));
    if (!curve) return;
    if (part.kind === "line") {
      fill(active, curve.id);
      return next();
    }
    if (part.kind !== "curves") return;
    const now = new Set(filled[active] ?? []);
    now.has(curve.id) ? now.delete(curve.id) : now.add(curve.id);
    fill(active, [...now]);
    draw();
    activate("curves");
  }

  /** More curves for the sentence. @param {string[]} ids */
  function add(ids) {
    if (blank(active)?.kind !== "curves") return;
    fill(active, [...new Set([...(filled[active] ?? []), ...ids])]);
    draw();
    activate("curves");
  }

  form.addEventListener("focusin", (event) => {
    const name = /** @type {HTMLElement} */ (event.target).dataset?.blank;
    if (name && name !== active) activate(name);
  });
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const open = firstOpen();
    if (open) {
      draw(PICKED.has(open.kind) ? undefined : open.blank);
      activate(open.blank);
      return ink(`${declared.title} still needs ${open.empty}. ${open.asks}`, true);
    }
    clearTimeout(timer);
    turn += 1;
    if (await command("sketch.edit", { kind, blanks: sent(), unit })) release();
  });

  const handles = createHandles({
    board,
    caught,
    unit,
    value: (name) => filled[name],
    write(name, value) {
      typed.add(name);
      fill(name, value);
      draw();
    },
    done: () => draw(),
  });
  drawing.above(handles.group);

  /** Do something with the sentence, once it is there. @param {() => void} act */
  const soon = (act) => (early ? void early.push(act) : act());

  return {
    active: () => declared !== null || early !== null,
    /** Begin a sentence with the curves that are chosen. @param {string} wanted @param {string[]} chosen */
    async open(wanted, chosen) {
      const mine = ++opening;
      early = [];
      const all = await load().catch((problem) => {
        say(problem.message, true);
        return null;
      });
      if (mine !== opening) return;
      const meanwhile = early;
      early = null;
      if (!all) return release();
      declared = all[wanted];
      kind = wanted;
      filled = {};
      typed.clear();
      for (const part of every(declared.parts)) if (part.kind === "choice") filled[part.blank] = part.options[0][0];
      for (const part of blanks()) if (part.usual !== undefined) filled[part.blank] = part.usual;
      const curves = chosen.filter((id) => drawing.curve(id));
      const point = chosen.find((id) => drawing.point(id));
      if (blank("curves") && curves.length) filled.curves = curves;
      if (blank("corner") && point) filled.corner = point;
      form.hidden = false;
      prompt.hidden = true;
      active = "";
      show();
      draw();
      later();
      for (const act of meanwhile) act();
    },
    close() {
      opening += 1;
      early = null;
      if (!declared) return;
      clearTimeout(timer);
      turn += 1;
      declared = null;
      form.hidden = true;
      prompt.hidden = false;
      wouldBe(null);
    },
    click: (event, id) => void (handles.letGo() || soon(() => pick(event, id))),
    /** The whole chain of a curve that was clicked twice. @param {string} id */
    chain(id) {
      const curve = drawing.curve(id) ?? drawing.data.shapes.curves.find((one) => one.points.includes(id));
      if (curve) soon(() => add(chainOf(curve.id, drawing.data.shapes.curves)));
    },
    add: (ids) => soon(() => add(ids)),
    enter: () => soon(() => form.requestSubmit()),
  };
}
