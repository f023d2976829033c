// The Release stage: each file at the press of its button.

import { fetchFile } from "./files.js";
import { startPlain } from "./resting.js";

startPlain();

for (const button of document.querySelectorAll("[data-file]"))
  button.addEventListener("click", async () => {
    const kind = button.dataset.file;
    const chord = /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-chord="${kind}"]`));
    button.disabled = true;
    await fetchFile(`the ${kind.toUpperCase()} file`, { kind, chord: chord?.value ?? "" });
    button.disabled = false;
  });
