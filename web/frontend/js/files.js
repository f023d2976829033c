// Files that the workers write: asked for, waited for, and fetched when they are there.

import { address, ask, isOpen, say, send } from "./talk.js";

const AGAIN_MS = 100;

let writing = 0;
/** Whether a file is being written. */
export const isWriting = () => writing > 0;

/**
 * Have a file written, and tell how long it takes; how the work ended.
 * @param {string} called what the file is called while it is written @param {{ kind: string, chord?: string, look?: any, until?: string }} wanted
 */
export async function written(called, wanted) {
  writing += 1;
  try {
    let work = await send("release/make", wanted);
    while (isOpen(work)) {
      say(`Writing ${called}, ${work.seconds} s …`);
      await new Promise((then) => setTimeout(then, AGAIN_MS));
      work = await ask(`work/${work.task}`);
    }
    say(work.problem, Boolean(work.problem));
    return work;
  } finally {
    writing -= 1;
  }
}

/**
 * Ask for a file, tell how long it takes, and fetch it.
 * @param {string} called what the file is called while it is written @param {{ kind: string, chord?: string, look?: any, until?: string }} wanted
 */
export async function fetchFile(called, wanted) {
  try {
    const work = await written(called, wanted);
    if (work.status === "done") window.location.assign(address(`release/file/${work.task}`));
  } catch (problem) {
    say(problem.message, true);
  }
}
