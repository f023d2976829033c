// What a simulated gauge reads on the made part, and what the files should allow for after it.

import { standIn } from "./standins.js";
import { mayChange } from "./talk.js";

const set = /** @type {HTMLButtonElement} */ (document.getElementById("gauge-set"));
let part = 1;
let wanted = "";

const two = (/** @type {number} */ value) => value.toFixed(2).replace("-", "−");

/** Have the part read again, as it is now. */
export const readAgain = standIn("gauge", {
  out: "gauge-out",
  note: "gauge-note",
  none: "There is no body to read yet.",
  sent: () => ({ part }),
  shows: false,
  show(told) {
    document.getElementById("gauge-part").textContent = String(part);
    const rows = told.readings.map((one) => {
      const row = document.createElement("tr");
      const off = one.read - one.design;
      const values = [two(one.design), two(one.filed), two(one.read), `${off > 0 ? "+" : ""}${two(off)}`];
      row.append(Object.assign(document.createElement("td"), { textContent: one.name }));
      for (const value of values)
        row.append(
          Object.assign(document.createElement("td"), { textContent: value, className: "text-right font-mono" }),
        );
      return row;
    });
    document.getElementById("gauge-rows").replaceChildren(...rows);
    const found = told.proposal;
    wanted = found ? found.holes.toFixed(2) : "";
    document.getElementById("gauge-told").textContent = found
      ? `From ${found.count} holes: they come out as designed if the files let them grow by ${two(found.holes)} ± ${two(found.u95)} mm.`
      : "With two round holes or more it would say by how much these should grow in the files.";
    set.hidden = !found || !mayChange;
    set.textContent = `Let holes grow by ${two(found?.holes ?? 0)} mm`;
    return "";
  },
});

/** @param {(name: string, mm: string) => void} allow what sets an allowance */
export function startGauge(allow) {
  document.getElementById("gauge-next").addEventListener("click", () => {
    part += 1;
    readAgain();
  });
  set.addEventListener("click", () => allow("holes", wanted));
}
