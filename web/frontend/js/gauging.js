// What a simulated gauge reads on the made part, and what the files should allow for after it.

import { standIn } from "./standins.js";
import { mayChange, unit } from "./talk.js";

const set = /** @type {HTMLButtonElement} */ (document.getElementById("gauge-set"));
let part = 1;
let wanted = "";

const cell = (textContent, className = "") => Object.assign(document.createElement("td"), { textContent, className });

/** Have the part read again, as it is now. */
export const readAgain = standIn("gauge", {
  out: "gauge-out",
  note: "gauge-note",
  none: "There is no body to read yet.",
  sent: () => ({ part }),
  shows: false,
  show(told) {
    document.getElementById("gauge-part").textContent = String(part);
    const rows = told.rows.map(([name, ...sizes]) => {
      const row = document.createElement("tr");
      row.append(cell(name), ...sizes.map((size) => cell(size, "text-right font-mono")));
      return row;
    });
    document.getElementById("gauge-rows").replaceChildren(...rows);
    document.getElementById("gauge-told").textContent = told.told;
    wanted = told.wanted;
    set.hidden = !wanted || !mayChange;
    set.textContent = `Let holes grow by ${wanted} ${unit}`;
    return "";
  },
});

/** @param {(name: string, text: string) => void} allow what sets an allowance */
export function startGauge(allow) {
  document.getElementById("gauge-next").addEventListener("click", () => {
    part += 1;
    readAgain();
  });
  set.addEventListener("click", () => allow("holes", wanted));
}
