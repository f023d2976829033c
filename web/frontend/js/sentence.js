// An operation being written in the Build sheet: its words, its blanks, and what stands in them.

import { upload } from "./talk.js";
import { tell } from "./tray.js";
import { clauses, cornerWords, CORNERS, edgeWords, faceWords, isEmpty, standing } from "./words.js";

const PREVIEW_MS = 260;
const BETWEEN = [
  ["", "between any faces"],
  ["flat flat", "between flat faces"],
  ["flat round", "between flat and round"],
  ["round round", "between round faces"],
];
const RULES = [
  ["top", "all top edges"],
  ["bottom", "all bottom edges"],
  ["upright", "all upright edges"],
  ["round", "all round edges"],
  ["all", "all edges"],
];

function every(parts) {
  return parts.flatMap((part) => (part.parts ? every(part.parts) : part.blank ? [part] : []));
}

/** Blanks that stand without adding a clause. @param {any[]} parts @returns {any[]} */
function unasked(parts) {
  return every(
    parts.filter((part) => !part.clause).map((part) => (part.parts ? { parts: unasked(part.parts) } : part)),
  );
}

/**
 * @param {{ host: () => HTMLElement, state: () => any, changed: () => void, preview: (sent: any) => void,
 *   build: (sent: any) => Promise<any>, dropped: () => void }} hooks
 */
export function createSentence({ host, state, changed, preview, build, dropped }) {
  const form = Object.assign(document.createElement("form"), { className: "op writing", autocomplete: "off" });
  form.setAttribute("aria-label", "Operation being written");
  let declared = null;
  let kind = "";
  let name = null;
  let filled = {};
  let before = {};
  let active = "";
  let timer = 0;
  let hinted = "";

  const parts = () => standing(declared.parts, filled);
  const blanks = () => parts().filter((part) => part.blank);
  const blank = (wanted) => every(declared.parts).find((part) => part.blank === wanted);

  function usual() {
    const bodies = state().bodies;
    const told = {};
    for (const part of every(declared.parts)) {
      if (part.kind === "choice" || part.kind === "axis") told[part.blank] = part.options[0][0];
      if (part.kind === "plane" && !part.face) told[part.blank] = "plan";
    }
    for (const part of standing(declared.parts, told)) if (part.usual !== undefined) told[part.blank] = part.usual;
    const results = every(declared.parts).find((part) => part.blank === "result");
    const usually = kind === "extrude" ? "cut" : "add";
    if (bodies.length && results?.options.some(([key]) => key === usually)) told.result = usually;
    let next = 0;
    for (const part of every(declared.parts))
      if (part.kind === "body")
        told[part.blank] =
          told[part.when] === part.makes && part.when ? freeBody() : (bodies[next++] ?? bodies.at(-1))?.id;
    return told;
  }

  function freeBody() {
    const taken = new Set(state().bodies.map((body) => body.name));
    let number = 2;
    while (taken.has(`Body ${number}`)) number += 1;
    return taken.has("Plate") ? `Body ${number}` : "Plate";
  }

  /** What is sent for an operation: only what stands in its sentence. */
  function sent() {
    const kept = Object.fromEntries(blanks().map((part) => [part.blank, filled[part.blank]]));
    if (name) for (const key of Object.keys(before)) if (!(key in kept)) kept[key] = null;
    return { kind, name, blanks: kept, command: declared.command, fixed: declared.fixed };
  }

  const complete = () => blanks().every((part) => !isEmpty(filled[part.blank]));

  function fill(key, value) {
    filled = { ...filled, [key]: value };
    for (const part of blanks()) {
      if (isEmpty(filled[part.blank]) && part.usual !== undefined) filled[part.blank] = part.usual;
      if (part.kind !== "body" || part.blank === key) continue;
      const makes = part.when && filled[part.when] === part.makes;
      const there = state().bodies.some((body) => body.id === filled[part.blank]);
      if (makes && there) filled[part.blank] = freeBody();
      if (!makes && !there) filled[part.blank] = state().bodies[0]?.id;
    }
    later();
    changed();
  }

  function later(wait = PREVIEW_MS) {
    clearTimeout(timer);
    if (complete()) timer = window.setTimeout(() => preview(sent()), wait);
  }

  function activate(key) {
    active = key;
    tell(blank(key)?.asks || declared.told);
    for (const item of form.querySelectorAll("[data-blank]")) item.classList.toggle("next", item.dataset.blank === key);
    changed();
  }

  function words(part) {
    const value = filled[part.blank];
    if (part.kind === "plane")
      return typeof value === "object"
        ? (state().faces.find((face) => face.body === value.body && face.name === value.face)?.words ?? "a face")
        : (state().planes.find((plane) => plane.id === value)?.words ?? part.empty);
    if (part.kind === "corners" && value?.length) return `${value.length} of ${CORNERS} corners`;
    if (part.kind === "mesh") return value?.name ?? part.empty;
    if (isEmpty(value)) return value?.sections?.length ? "1 section" : part.empty;
    const several = (number, word) => `${number} ${word}${number > 1 ? "s" : ""}`;
    if (part.kind === "sections") return several(value.sections.length, "section");
    if (part.kind === "operations")
      return `operation${value.operations.length > 1 ? "s" : ""} ${value.operations.map((id) => state().numbers[id]).join(", ")}`;
    const count = value.names?.length ?? 0;
    if (part.kind === "faces") return several(count, "face");
    if (part.kind === "edges")
      return value.rule
        ? value.rule.chain
          ? "a chain of edges"
          : RULES.find(([at]) => at === value.rule.at)[1]
        : `${count} edge${count > 1 ? "s" : ""}`;
    if (value.trace) return traces(part.kind).find(([told]) => told === keyOf(value))?.[1] ?? "a lost trace";
    const sketch = state().sketches.find((one) => one.id === value.sketch)?.title ?? "a sketch";
    const what = { regions: "region", centres: "circle" }[part.kind] ?? "curve";
    return `${several(count, what)} of ${sketch}`;
  }

  function input(part) {
    const field = Object.assign(document.createElement("input"), {
      value: filled[part.blank] ?? "",
      ariaLabel: part.asks || part.blank,
      className: part.kind === "text" || part.kind === "body" ? "words-in" : "",
    });
    field.dataset.blank = part.blank;
    field.addEventListener("input", () => fill(part.blank, field.value));
    return field;
  }

  function select(part, options, value, then, at = "") {
    const field = Object.assign(document.createElement("select"), { ariaLabel: part.asks || part.blank });
    if (at) field.dataset.at = at;
    else field.dataset.blank = part.blank;
    field.append(...options.map(([key, text]) => new Option(text, key, false, key === value)));
    field.addEventListener("change", () => {
      then(field.value);
      draw(part.blank, at);
    });
    return field;
  }

  function pickButton(part) {
    const button = Object.assign(document.createElement("button"), {
      type: "button",
      className: `picked${isEmpty(filled[part.blank]) ? " empty" : ""}`,
      textContent: words(part),
    });
    button.dataset.blank = part.blank;
    button.addEventListener("click", () => activate(part.blank));
    button.addEventListener("keydown", (event) => step(event, part));
    return button;
  }

  /** A file that is chosen, read by the server, and then stands in the sentence by its name. */
  function fileButton(part) {
    const button = pickButton(part);
    const chooser = Object.assign(document.createElement("input"), { type: "file", accept: ".stl,.obj,.ply,.3mf" });
    chooser.hidden = true;
    chooser.addEventListener("change", async () => {
      const [file] = chooser.files ?? [];
      if (!file) return;
      hint(`Reading ${file.name} …`);
      const body = new FormData();
      body.append("mesh", file);
      try {
        const { told, ...kept } = await upload("solid/mesh", body);
        fill(part.blank, kept);
        hinted = told;
        draw(part.blank);
        problem("");
      } catch (refused) {
        hint("");
        problem(refused.message);
      }
    });
    button.addEventListener("click", () => chooser.click());
    return [button, chooser];
  }

  let at = -1;
  /** Arrow keys go through what could be picked, Space takes it or leaves it. */
  function step(event, part) {
    const found = candidates(part);
    if (!["ArrowDown", "ArrowUp", " "].includes(event.key) || !found.length) return;
    event.preventDefault();
    if (event.key === " ") {
      if (at >= 0 && at < found.length) toggle(found[at].value);
    } else {
      at = (at + (event.key === "ArrowDown" ? 1 : -1) + found.length) % found.length;
      tell(`${found[at].words} (${at + 1} of ${found.length}); Space takes it.`);
      changed();
    }
    form.querySelector(`[data-blank="${part.blank}"]`)?.focus();
  }

  function candidates(part) {
    const { sketches, edges, corners, faces, planes, bodies } = state();
    if (part.kind === "regions" || part.kind === "sections")
      return sketches.flatMap((sketch) =>
        sketch.regions.map((region) => ({
          value: { sketch: sketch.id, name: region.id },
          words: `Region of ${region.area.toFixed(1)} mm² of ${sketch.title}`,
        })),
      );
    if (part.kind === "centres")
      return sketches.flatMap((sketch) =>
        sketch.centers.map((center) => ({
          value: { sketch: sketch.id, name: center.id },
          words: `Circle of ${(2 * center.radius).toFixed(2)} mm of ${sketch.title}`,
        })),
      );
    const curves = (lines) =>
      sketches.flatMap((sketch) =>
        sketch.curves
          .filter((curve) => !lines || curve.kind === "line")
          .map((curve) => ({
            value: { sketch: sketch.id, name: curve.id },
            words: `${curve.kind} ${curve.id.slice(1)} of ${sketch.title}`,
          })),
      );
    if (part.kind === "run") return curves(false);
    if (part.kind === "faces")
      return state().allFaces.map((face) => ({ value: face, words: faceWords(face.name, state().numbers) }));
    if (part.kind === "operations")
      return Object.entries(state().numbers).map(([id, number]) => ({ value: id, words: `Operation ${number}` }));
    if (part.kind === "edges" || part.kind === "axis")
      return [
        ...(part.kind === "axis" ? curves(true) : []),
        ...edges.map((edge) => ({ value: edge, words: edgeWords(edge.name, state().numbers) })),
      ];
    if (part.kind === "corners")
      return corners.map((corner) => ({ value: corner, words: cornerWords(corner.corner, state().numbers) }));
    if (part.kind === "plane")
      return [
        ...planes.filter(() => !part.face).map((plane) => ({ value: plane.id, words: plane.words })),
        ...faces.map((face) => ({ value: { body: face.body, face: face.name }, words: face.words })),
      ];
    return bodies.map((body) => ({ value: body.id, words: body.name }));
  }

  /** Take or leave something that was pointed at for the blank that is to be filled. @param {any} value */
  function toggle(value) {
    const part = blank(active);
    if (!part) return;
    if (part.kind === "plane" || part.kind === "body") fill(active, value);
    else if (part.kind === "axis")
      fill(
        active,
        value.sketch ? { sketch: value.sketch, names: [value.name] } : { body: value.body, edge: value.name },
      );
    else if (part.kind === "operations") {
      const now = filled[active]?.operations ?? [];
      fill(active, {
        operations: now.includes(value) ? now.filter((one) => one !== value) : [...now, value],
      });
    } else if (part.kind === "sections") {
      const now = filled[active]?.sections ?? [];
      const others = now.filter((one) => one.sketch !== value.sketch || one.name !== value.name);
      fill(active, { sections: others.length < now.length ? others : [...now, value] });
    } else if (part.kind === "corners") {
      const now = filled[active] ?? [];
      const others = now.filter((one) => one.body !== value.body || one.corner !== value.corner);
      fill(active, others.length < now.length ? others : [...now.slice(1 - CORNERS), value]);
    } else if (part.kind === "edges" || part.kind === "faces") {
      const now = filled[active]?.body === value.body && filled[active]?.names ? filled[active].names : [];
      fill(active, {
        body: value.body,
        names: now.includes(value.name) ? now.filter((one) => one !== value.name) : [...now, value.name],
      });
    } else {
      const now = filled[active]?.sketch === value.sketch ? filled[active].names : [];
      fill(active, {
        sketch: value.sketch,
        names: now.includes(value.name) ? now.filter((one) => one !== value.name) : [...now, value.name],
      });
    }
    draw(active);
  }

  function ruleFields(part) {
    const value = filled[part.blank] ?? {};
    const body = value.body ?? state().bodies[0]?.id;
    const first = value.rule?.chain ?? (value.names?.length === 1 ? value.names[0] : "");
    const chain = first ? [["chain", "the one clicked and all that run on"]] : [];
    const ruled = (fresh) =>
      fill(part.blank, {
        body,
        rule: Object.fromEntries(Object.entries({ ...value.rule, ...fresh }).filter(([, told]) => told)),
      });
    const rule = select(
      part,
      [["", "those clicked"], ...chain, ...RULES],
      value.rule?.chain ? "chain" : (value.rule?.at ?? ""),
      (at) => {
        if (at) fill(part.blank, { body, rule: at === "chain" ? { at: "all", chain: first } : { at } });
        else fill(part.blank, { body, names: first ? [first] : [] });
      },
      "rule",
    );
    rule.ariaLabel = "Rule for the edges";
    if (value.rule) rule.dataset.blank = part.blank;
    const fields = [rule];
    if (value.rule && !value.rule.chain) {
      const steps = Object.entries(state().numbers).flatMap(([id, number]) => [
        [`of ${id}`, `of ${number} alone`],
        [`but ${id}`, `but those of ${number}`],
      ]);
      const now = value.rule.operation
        ? `of ${value.rule.operation}`
        : value.rule.but?.length
          ? `but ${value.rule.but[0]}`
          : "";
      const but = select(
        part,
        [["", "of all operations"], ...steps],
        now,
        (told) => {
          const [how, id] = told.split(" ");
          ruled({ operation: how === "of" ? id : "", but: how === "but" ? [id] : null });
        },
        "but",
      );
      but.ariaLabel = "Operations whose edges count";
      const between = select(
        part,
        BETWEEN,
        value.rule.between?.join(" ") ?? "",
        (kinds) => ruled({ between: kinds ? kinds.split(" ") : null }),
        "between",
      );
      between.ariaLabel = "Faces that the edges lie between";
      fields.push(but, between);
    }
    if (state().bodies.length > 1) {
      const of = select(
        part,
        state().bodies.map((one) => [one.id, `of ${one.name}`]),
        body,
        (id) => fill(part.blank, { ...value, body: id, ...(value.rule ? {} : { names: [] }) }),
        "of",
      );
      of.ariaLabel = "Body of the edges";
      fields.push(of);
    }
    return fields;
  }

  const keyOf = (value) => (value?.trace ? `${value.sketch} ${value.trace}` : "");

  /** What can be taken all at once: the marks, or lines, of each trace. @param {string} kind */
  const traces = (kind) =>
    state().sketches.flatMap((one) => one.traces.map((trace) => [`${one.id} ${trace.id}`, trace[kind]]));

  function tracedField(part) {
    const picker = select(
      part,
      [["", "those clicked"], ...traces(part.kind)],
      keyOf(filled[part.blank]),
      (told) => {
        const [sketch, trace] = told.split(" ");
        fill(part.blank, told ? { sketch, names: [], trace } : undefined);
      },
      "traced",
    );
    picker.ariaLabel = part.kind === "centres" ? "All marks of a trace" : "All lines of a trace";
    if (keyOf(filled[part.blank])) {
      picker.dataset.blank = part.blank;
      return [picker];
    }
    return [pickButton(part), picker];
  }

  function field(part) {
    if (["centres", "run"].includes(part.kind) && traces(part.kind).length) return tracedField(part);
    if (["length", "angle", "count", "factor", "text"].includes(part.kind)) return [input(part)];
    if (part.kind === "axis") {
      const value = filled[part.blank];
      const field = select(
        part,
        [
          ...part.options,
          ...(typeof value === "object" ? [["picked", value.sketch ? "the line clicked" : "the edge clicked"]] : []),
        ],
        typeof value === "object" ? "picked" : value,
        (picked) => {
          if (picked !== "picked") fill(part.blank, picked);
        },
      );
      return [field];
    }
    if (part.kind === "choice")
      return [select(part, part.options, filled[part.blank], (value) => fill(part.blank, value))];
    if (part.kind === "body") {
      if (part.when && filled[part.when] === part.makes) return [input(part)];
      return [
        select(
          part,
          state().bodies.map((body) => [body.id, body.name]),
          filled[part.blank],
          (value) => fill(part.blank, value),
        ),
      ];
    }
    if (part.kind === "mesh") return fileButton(part);
    if (part.kind === "edges")
      return filled[part.blank]?.rule ? ruleFields(part) : [pickButton(part), ...ruleFields(part)];
    return [pickButton(part)];
  }

  /** Add a clause, or take it away where it stands. @param {{ first: string }} clause */
  function turnOver(clause) {
    const there = !isEmpty(filled[clause.first]);
    fill(clause.first, there ? undefined : (blank(clause.first).usual ?? ""));
    draw(there ? undefined : clause.first);
  }

  /** Write the sentence anew; the blank of that name, or the field at that place in it, keeps the keyboard. @param {string} [focus] @param {string} [at] */
  function draw(focus, at) {
    const words = document.createElement("div");
    words.className = "said-words";
    for (const part of parts()) {
      if (part.text) words.append(/^[,.;]/.test(part.text) ? part.text : ` ${part.text}`);
      else
        words.append(
          " ",
          ...field(part)
            .flatMap((one) => [one, " "])
            .slice(0, -1),
        );
    }
    const offers = document.createElement("div");
    offers.className = "offers";
    for (const clause of clauses(declared.parts, filled)) {
      const there = !isEmpty(filled[clause.first]);
      const button = Object.assign(document.createElement("button"), {
        type: "button",
        textContent: `${there ? "−" : "+"} ${clause.clause}`,
      });
      button.addEventListener("click", () => turnOver(clause));
      offers.append(button);
    }
    const buttons = document.createElement("div");
    buttons.className = "btns";
    const done = Object.assign(document.createElement("button"), {
      className: "btn small",
      textContent: name ? "Take" : "Build",
    });
    const drop = Object.assign(document.createElement("button"), {
      type: "button",
      className: "btn alt small",
      textContent: "Drop",
    });
    drop.addEventListener("click", dropped);
    buttons.append(done, drop);
    const why = Object.assign(document.createElement("p"), { className: "why" });
    why.hidden = true;
    const works = Object.assign(document.createElement("p"), { className: "works", textContent: hinted });
    works.hidden = !hinted;
    form.replaceChildren(words, ...(offers.childElementCount ? [offers] : []), why, works, buttons);
    const wanted = focus ?? active;
    activate(
      blanks().some((part) => part.blank === wanted)
        ? wanted
        : (blanks().find((part) => isEmpty(filled[part.blank])) ?? blanks()[0]).blank,
    );
    if (form.isConnected) form.scrollIntoView({ block: "nearest" });
    if (focus)
      ((at && form.querySelector(`[data-at="${at}"]`)) || form.querySelector(`[data-blank="${active}"]`))?.focus();
  }

  form.addEventListener("focusin", (event) => {
    const key = event.target.dataset?.blank;
    if (key && key !== active) activate(key);
  });
  form.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && event.target.matches("input, select, .picked")) {
      event.preventDefault();
      form.requestSubmit();
    }
  });
  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    clearTimeout(timer);
    const missing = blanks().find((part) => isEmpty(filled[part.blank]));
    if (missing) {
      activate(missing.blank);
      return problem(`${declared.title} still needs ${missing.empty || missing.blank}. ${missing.asks}`);
    }
    await build(sent());
  });

  /** Something worth knowing under the sentence. @param {string} sentence */
  function hint(sentence) {
    hinted = sentence;
    const works = /** @type {HTMLElement} */ (form.querySelector(".works"));
    if (!works) return;
    works.hidden = !sentence;
    works.textContent = sentence;
  }

  function problem(sentence) {
    const why = form.querySelector(".why");
    if (!why) return;
    why.hidden = !sentence;
    why.textContent = sentence;
  }

  /** At the end of the sheet, or where it is built to. */
  function place() {
    const here = name ? null : host().querySelector(".built-to");
    here ? here.after(form) : host().append(form);
  }

  /** Fillings of a new operation before anything is typed. */
  function beginning() {
    const begun = usual();
    const only = every(declared.parts).find((part) => part.kind === "regions");
    const regions = state().sketches.flatMap((sketch) => sketch.regions.map((region) => [sketch.id, region.id]));
    if (only && regions.length && !state().bodies.length)
      begun.regions = { sketch: regions[0][0], names: [regions[0][1]] };
    const edges = every(declared.parts).find((part) => part.kind === "edges");
    if (edges && state().bodies.length) begun.edges = { body: state().bodies[0].id, names: [] };
    return begun;
  }

  return {
    form,
    problem,
    hint,
    /** Whether an operation changes a body that is there already. @param {string} wanted */
    needsBody: (wanted) =>
      unasked(state().declared[wanted].parts).some(
        (part) => part.kind === "edges" || part.kind === "faces" || (part.kind === "body" && !part.when),
      ),
    /** What the first operation would be sent as, so that it can be built before it is asked for. @param {string} wanted */
    ahead(wanted) {
      if (declared) return null;
      [kind, declared, name] = [wanted, state().declared[wanted], null];
      filled = beginning();
      const told = complete() ? sent() : null;
      declared = null;
      return told;
    },
    toggle,
    /**
     * Begin a new operation, or open one that stands, with a clause added where one is named.
     * @param {string} wanted
     * @param {{ name: string, filled: any } | null} [old]
     * @param {string} [first]
     * @param {string} [added]
     */
    open(wanted, old = null, first, added) {
      kind = wanted;
      declared = state().declared[wanted];
      name = old?.name ?? null;
      filled = old ? { ...old.filled } : beginning();
      before = { ...filled };
      hinted = "";
      at = -1;
      place();
      active = "";
      draw(first ?? blanks()[0].blank);
      const clause = clauses(declared.parts, filled).find((one) => one.clause === added && isEmpty(filled[one.first]));
      if (clause) turnOver(clause);
      form.scrollIntoView({ block: "nearest" });
      later(0);
    },
    close() {
      clearTimeout(timer);
      form.remove();
      declared = null;
      name = null;
    },
    /** Put the sentence back into a sheet that was drawn anew. */
    keep() {
      if (declared && !form.isConnected) place();
    },
    get isOpen() {
      return Boolean(declared);
    },
    get name() {
      return name;
    },
    get kind() {
      return declared ? (blank(active)?.kind ?? "") : "";
    },
    get filled() {
      return filled;
    },
    get active() {
      return active;
    },
    get pointedAt() {
      const part = declared && blank(active);
      return part && at >= 0 ? candidates(part)[at]?.value : null;
    },
    picked(kindOf) {
      return declared
        ? every(declared.parts)
            .filter((part) => part.kind === kindOf)
            .map((part) => filled[part.blank])
            .filter(Boolean)
        : [];
    },
  };
}
