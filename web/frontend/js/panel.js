// The Ledger, Next and the history buttons: filtering, typing over, and keeping up with changes.

import htmx from "htmx.org";
import { startNews } from "./news.js";
import { address, command, history, say, setVersion, stage, unit, version } from "./talk.js";

const wanted = { text: "", sources: new Set() };

function filter() {
  for (const row of document.querySelectorAll("[data-row]")) {
    const text =
      `${row.querySelector(".name").textContent} ${row.querySelector("input")?.value ?? row.querySelector(".value")?.textContent}`.toLowerCase();
    const fits = text.includes(wanted.text) && (!wanted.sources.size || wanted.sources.has(row.dataset.sourceOf));
    row.hidden = !fits;
  }
  for (const group of document.querySelectorAll("[data-group]"))
    group.hidden = !group.querySelector("[data-row]:not([hidden])");
  const box = document.querySelector("[data-filter]");
  if (box && box.value !== wanted.text) box.value = wanted.text;
  for (const button of document.querySelectorAll(".filter [data-source]"))
    button.setAttribute("aria-pressed", String(wanted.sources.has(button.dataset.source)));
}

/** Load the Ledger, the stage line and Next anew. */
export const refresh = () => htmx.ajax("get", address(`panel/${stage}`), { target: "#panel", swap: "innerHTML" });

/** While a number is being typed over or is on its way to the server, or a button of the mouse is down, a new Ledger waits, so that nothing typed, no answer and no click is lost. */
function waitForTyping() {
  let typing = null;
  let sent = 0;
  let pressed = false;
  let late = false;
  const isRefresh = (detail) => detail.pathInfo.requestPath.includes("/panel/");
  const catchUp = () => {
    if (late) refresh();
    late = false;
  };
  document.addEventListener("input", (event) => {
    if (event.target.matches("#panel [data-row] input")) typing = event.target;
  });
  document.addEventListener("change", (event) => {
    if (event.target === typing) typing = null;
  });
  document.addEventListener("focusout", (event) => {
    if (event.target !== typing) return;
    typing = null;
    catchUp();
  });
  document.addEventListener(
    "pointerdown",
    () => {
      pressed = true;
    },
    true,
  );
  for (const end of ["pointerup", "pointercancel"])
    document.addEventListener(
      end,
      () =>
        setTimeout(() => {
          pressed = false;
          if (!typing?.isConnected) catchUp();
        }),
      true,
    );
  document.body.addEventListener("nomogon:problem", catchUp);
  document.body.addEventListener("htmx:configRequest", ({ detail }) => {
    if (detail.parameters.row) detail.parameters.version = version();
  });
  document.body.addEventListener("htmx:beforeRequest", ({ detail }) => {
    if (!isRefresh(detail)) sent += 1;
  });
  document.body.addEventListener("htmx:afterRequest", ({ detail }) => {
    if (!isRefresh(detail)) sent -= 1;
  });
  document.body.addEventListener("htmx:beforeSwap", ({ detail }) => {
    late = isRefresh(detail) && (Boolean(typing?.isConnected) || sent > 0 || pressed);
    if (late) detail.shouldSwap = false;
  });
}

/** A number that was typed as something else than it reads shows that again while it is open. */
function showTyped() {
  document.addEventListener("focusin", ({ target }) => {
    if (!target.matches?.("#panel input[data-typed]")) return;
    target.dataset.shown = target.value;
    target.value = target.dataset.typed;
    target.select();
  });
  document.addEventListener("focusout", ({ target }) => {
    if (target.dataset?.shown !== undefined && target.value === target.dataset.typed)
      target.value = target.dataset.shown;
  });
}

/** A new quantity, another name, what hangs on a number. */
function quantities() {
  document.addEventListener("click", (event) => {
    if (event.target.closest("[data-add-quantity]")) {
      const form = document.querySelector(".new-quantity");
      form.hidden = !form.hidden;
      event.target.setAttribute("aria-expanded", String(!form.hidden));
      if (!form.hidden) form.elements.name.focus();
    }
    const gone = event.target.closest("[data-remove-quantity]");
    if (gone) command("ledger.remove", { name: gone.dataset.removeQuantity.split(":")[1] });
    const named = event.target.closest("[data-rename]");
    if (named) rename(named);
  });
  document.addEventListener("submit", async (event) => {
    if (!event.target.matches(".new-quantity")) return;
    event.preventDefault();
    const { name, text } = event.target.elements;
    await command("ledger.add", { name: name.value, text: text.value, unit });
  });
  for (const [begin, on] of Object.entries({ mouseover: true, focusin: true, mouseout: false, focusout: false })) {
    document.addEventListener(begin, (event) => {
      const row = event.target.closest?.("[data-hangs]");
      if (!row) return;
      const ids = row.dataset.hangs.split(" ");
      for (const other of document.querySelectorAll("[data-row]"))
        if (ids.includes(other.dataset.row)) other.classList.toggle("hangs", on);
    });
  }
}

/** Type another name over a row's. @param {HTMLElement} button */
function rename(button) {
  const field = Object.assign(document.createElement("input"), {
    className: "rename",
    value: button.dataset.called,
    ariaLabel: `Another name for ${button.dataset.called}`,
    autocomplete: "off",
  });
  let done = false;
  const end = async (keep) => {
    if (done) return;
    done = true;
    const text = field.value.trim();
    field.replaceWith(button);
    if (keep && text && text !== button.dataset.called)
      await command("ledger.rename", { row: button.dataset.rename, text });
    else button.focus();
  };
  field.addEventListener("keydown", (event) => {
    event.stopPropagation();
    if (event.key === "Enter") end(true);
    if (event.key === "Escape") end(false);
  });
  field.addEventListener("blur", () => end(true));
  button.replaceWith(field);
  field.select();
  field.focus();
}

/** Mark the Ledger rows of what is chosen on the Board. @param {string[]} ids */
export function mark(ids) {
  for (const row of document.querySelectorAll("[data-row]")) row.classList.toggle("sel", ids.includes(row.dataset.row));
}

/** Start following the page. @param {{ takeTool?: (name: string) => void, onRow?: (id: string) => void }} hooks */
export function startPanel({ takeTool, onRow } = {}) {
  waitForTyping();
  showTyped();
  startNews();
  quantities();
  document.addEventListener("input", (event) => {
    if (!event.target.matches("[data-filter]")) return;
    wanted.text = event.target.value.trim().toLowerCase();
    filter();
  });
  document.addEventListener("click", (event) => {
    const source = event.target.closest(".filter [data-source]");
    if (source) {
      wanted.sources.has(source.dataset.source)
        ? wanted.sources.delete(source.dataset.source)
        : wanted.sources.add(source.dataset.source);
      filter();
    }
    const step = event.target.closest("[data-history]");
    if (step) history(step.dataset.history);
    const button = event.target.closest("[data-command]");
    if (button) command(button.dataset.command, JSON.parse(button.dataset.arguments));
    const tool = event.target.closest("[data-take-tool]");
    if (tool) takeTool?.(tool.dataset.takeTool);
    const row = event.target.closest("[data-row]");
    if (row) onRow?.(row.dataset.row);
  });
  document.addEventListener("keydown", (event) => {
    if (!(event.ctrlKey || event.metaKey) || event.target.matches("input[type=text], input:not([type]), textarea"))
      return;
    const key = event.key.toLowerCase();
    if (key === "z" || key === "y") {
      event.preventDefault();
      history(key === "y" || event.shiftKey ? "redo" : "undo");
    }
  });
  document.body.addEventListener("nomogon:now", refresh);
  document.body.addEventListener("nomogon:changed", (event) => {
    setVersion(event.detail.version);
    say(event.detail.problem ?? event.detail.note ?? "", Boolean(event.detail.problem));
    document.body.dispatchEvent(new CustomEvent("nomogon:typed", { detail: event.detail }));
  });
  document.body.addEventListener("nomogon:problem", (event) => say(event.detail.problem, true));
  document.body.addEventListener("htmx:afterSwap", filter);
  document.body.addEventListener("htmx:sendError", () =>
    say("The server cannot be reached; nothing was changed. Try again in a moment.", true),
  );
  document.getElementById("panel").inert = false; // a click that came before would be lost
}

/** A number was typed over in the Ledger. @param {(detail: any) => void} then */
export const onTyped = (then) => document.body.addEventListener("nomogon:typed", (event) => then(event.detail));

/** The job changed through a command of this page. @param {(detail: any) => void} then */
export const onChanged = (then) => document.body.addEventListener("nomogon:now", (event) => then(event.detail));
