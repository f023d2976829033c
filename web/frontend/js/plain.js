// Stages without a Board: Inspect and Release.

import { onTyped, onChanged, startPanel } from "./panel.js";

startPanel();
// What is being typed into a form stays; the message says what others did.
const again = () => { if (!document.activeElement?.matches("main input, main select")) location.reload(); };
onTyped((detail) => { if (!detail.problem) again(); });
onChanged(again);

for (const link of document.querySelectorAll("[data-file]")) {
  link.addEventListener("click", () => {
    const chord = document.querySelector(`[data-chord="${link.dataset.file}"]`);
    if (chord) link.href = `${link.href.split("?")[0]}?chord=${encodeURIComponent(chord.value)}`;
  });
}
