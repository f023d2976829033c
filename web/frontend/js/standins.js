// Simulated devices of Release: asked for again whenever something of theirs has changed.

import { address, isOpen, send } from "./talk.js";

const AGAIN_MS = 150;

/** Minutes and seconds, or hours and minutes. @param {number} seconds */
export function time(seconds) {
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ${String(Math.floor(seconds % 60)).padStart(2, "0")} s`;
  const minutes = Math.round(seconds / 60);
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")} min`;
}

/** Rows of names and values. @param {string} id @param {string[][]} rows */
export function list(id, rows) {
  document.getElementById(id).innerHTML = rows.map(([name, value]) => `<dt>${name}</dt><dd>${value}</dd>`).join("");
}

/**
 * A function that has a device try the part, as it is now.
 * @param {string} device
 * @param {{ out: string, note: string, none: string, sent?: () => object, shows?: boolean, show: (told: any, shown: any) => string }} how
 *   ids of what it shows and says, what it says of no part, whether it has more to show than numbers, and what shows it
 *   and gives a sentence
 */
export function standIn(device, { out, note, none, sent = () => ({}), shows = true, show }) {
  let asked = 0;
  const said = /** @type {HTMLElement} */ (document.getElementById(note));
  return async function again() {
    const mine = ++asked;
    while (mine === asked) {
      const { work, told } = await send(`release/try/${device}`, sent()).catch((problem) => ({
        work: { problem: problem.message },
      }));
      if (mine !== asked) return;
      if (isOpen(work)) {
        await new Promise((done) => setTimeout(done, AGAIN_MS));
        continue;
      }
      document.getElementById(out).hidden = !told;
      said.textContent = told ? "" : work?.problem || none;
      if (!told) return;
      const shown = shows ? await (await fetch(address(`release/tried/${device}/${work.task}`))).json() : null;
      if (mine === asked) said.textContent = show(told, shown);
      return;
    }
  };
}
