// What a simulated gauge reads on the made part, and what the files should allow for after it.

import { standIn } from "./standins.js";
import { mayChange } from "./talk.js";

const told = document.getElementById("gauge-told");
let part = 1;

const cell = (textContent, className = "") => Object.assign(document.createElement("td"), { textContent, className });

/** Have the part read again, as it is now. */
export const readAgain = standIn("gauge", {
  out: "gauge-out",
  note: "gauge-note",
  none: "There is no body to read yet.",
  sent: () => ({ part }),
  shows: false,
  show(found) {
    document.getElementById("gauge-part").textContent = String(part);
    const rows = found.rows.map(([name, ...sizes]) => {
      const row = document.createElement("tr");
      row.append(cell(name), ...sizes.map((size) => cell(size, "text-right font-mono")));
      return row;
    });
    document.getElementById("gauge-rows").replaceChildren(...rows);
    told.replaceChildren(
      ...found.told.map((one) => {
        const line = Object.assign(document.createElement("p"), { className: "mt-2", textContent: `${one.sentence} ` });
        if (one.typed === null || !mayChange) return line;
        const set = document.createElement("button");
        Object.assign(set, { type: "button", className: "btn small", textContent: one.words });
        set.dataset.allow = one.name;
        set.dataset.typed = one.typed;
        line.append(set);
        return line;
      }),
    );
    return "";
  },
});

/** @param {(name: string, text: string) => void} allow what sets an allowance */
export function startGauge(allow) {
  document.getElementById("gauge-next").addEventListener("click", () => {
    part += 1;
    readAgain();
  });
  told.addEventListener("click", (event) => {
    const { allow: name, typed } = /** @type {HTMLElement} */ (event.target).dataset;
    if (name) allow(name, typed);
  });
}
