// What pages without a Board do: they show the Ledger, and load again when the job changes.

import { isWriting } from "./files.js";
import { onTyped, onChanged, startPanel } from "./panel.js";

const AGAIN_MS = 300;

/** @param {() => boolean} own Whether a change is the page's own, which it shows without being loaded again. */
export function startPlain(own = () => false) {
  startPanel();
  // What is being typed into a form stays, and a file that is being written is waited for.
  const again = () => {
    if (own() || document.activeElement?.matches("main input, main select")) return;
    if (isWriting()) setTimeout(again, AGAIN_MS);
    else location.reload();
  };
  onTyped((detail) => {
    if (!detail.problem) again();
  });
  onChanged(again);
}
