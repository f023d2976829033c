// What pages without a Board do: they show the Ledger, and load again when the job changes.

import { onTyped, onChanged, startPanel } from "./panel.js";

export function startPlain() {
  startPanel();
  // What is being typed into a form stays; the message says what others did.
  const again = () => {
    if (!document.activeElement?.matches("main input, main select")) location.reload();
  };
  onTyped((detail) => {
    if (!detail.problem) again();
  });
  onChanged(again);
}
