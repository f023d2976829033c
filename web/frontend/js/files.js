// Files that the workers write: asked for, waited for, and fetched when they are there.

import { address, ask, say, send } from "./talk.js";

const AGAIN_MS = 100;
const OPEN = ["waiting", "running"];

/**
 * Ask for a file, tell how long it takes, and fetch it.
 * @param {string} called what the file is called while it is written @param {{ kind: string, chord?: string, look?: any, until?: string }} wanted
 */
export async function fetchFile(called, wanted) {
  try {
    let work = await send("release/make", wanted);
    while (OPEN.includes(work.status)) {
      say(`Writing ${called}, ${work.seconds} s …`);
      await new Promise((then) => setTimeout(then, AGAIN_MS));
      work = await ask(`work/${work.task}`);
    }
    say(work.problem, Boolean(work.problem));
    if (work.status === "done") window.location.assign(address(`release/file/${work.task}`));
  } catch (problem) {
    say(problem.message, true);
  }
}
