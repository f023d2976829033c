// Stages without a Board: Inspect and Release.

import { onTyped, onChanged, startPanel } from "./panel.js";

startPanel();
const again = () => location.reload();
onTyped((detail) => { if (!detail.problem) again(); });
onChanged(again);

for (const link of document.querySelectorAll("[data-file]")) {
  link.addEventListener("click", () => {
    const chord = document.querySelector(`[data-chord="${link.dataset.file}"]`);
    if (chord) link.href = `${link.href.split("?")[0]}?chord=${encodeURIComponent(chord.value)}`;
  });
}
