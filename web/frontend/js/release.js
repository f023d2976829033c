// The Release stage: files are written by the workers, and fetched when they are there.

import { address, ask, say, send } from "./talk.js";
import { startPlain } from "./resting.js";

const AGAIN_MS = 100;
const OPEN = ["waiting", "running"];

startPlain();

/** Ask for a file, tell how long it takes, and fetch it. @param {HTMLButtonElement} button */
async function fetchFile(button) {
  const kind = button.dataset.file;
  const chord = /** @type {HTMLInputElement | null} */ (document.querySelector(`[data-chord="${kind}"]`));
  button.disabled = true;
  try {
    let work = await send("release/make", { kind, chord: chord?.value ?? "" });
    while (OPEN.includes(work.status)) {
      say(`Writing the ${kind.toUpperCase()} file, ${work.seconds} s …`);
      await new Promise((then) => setTimeout(then, AGAIN_MS));
      work = await ask(`work/${work.task}`);
    }
    say(work.problem, Boolean(work.problem));
    if (work.status === "done") window.location.assign(address(`release/file/${work.task}`));
  } catch (problem) {
    say(problem.message, true);
  }
  button.disabled = false;
}

for (const button of document.querySelectorAll("[data-file]"))
  button.addEventListener("click", () => fetchFile(button));
