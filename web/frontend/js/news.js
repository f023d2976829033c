// What others do in the same job, and who has it open too.

import { address, announce, say, setVersion, version } from "./talk.js";

const EVERY_MS = 4000;
let busy = false;

async function look() {
  if (busy || document.hidden) return;
  busy = true;
  try {
    const asked = version();
    const response = await fetch(`${address("news")}?version=${asked}`, { headers: { Accept: "application/json" } });
    if (!response.ok) return;
    const answer = await response.json();
    const others = document.getElementById("others");
    if (others) others.textContent = answer.others.length ? `also here: ${answer.others.join(", ")}` : "";
    // A change of this page's own may have come in between.
    if (answer.version > version() && asked === version()) {
      setVersion(answer.version);
      say(`Just done: ${answer.happened.join("; ")}.`);
      announce({ version: answer.version, stale: true });
    }
  } catch {
    // The next look comes soon.
  } finally {
    busy = false;
  }
}

/** Look every few seconds. */
export function startNews() {
  setInterval(look, EVERY_MS);
  look();
}
