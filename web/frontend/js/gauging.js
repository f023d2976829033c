// What a simulated gauge reads on the made part, and what the files should allow for after it.

import { size, standIn } from "./standins.js";
import { mayChange, unit } from "./talk.js";

const set = /** @type {HTMLButtonElement} */ (document.getElementById("gauge-set"));
let part = 1;
let wanted = "";

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
      const values = [size(one.design), size(one.filed), size(one.read), `${off > 0 ? "+" : ""}${size(off)}`];
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
      ? `From ${found.count} holes: they come out as designed if the files let them grow by ${size(found.holes)} ± ${size(found.u95)} ${unit}.`
      : "With two round holes or more it would say by how much these should grow in the files.";
    set.hidden = !found || !mayChange;
    set.textContent = `Let holes grow by ${size(found?.holes ?? 0)} ${unit}`;
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
