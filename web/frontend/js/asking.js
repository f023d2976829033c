// The small form on the Board that asks for a size, with a reading of the caliper stand-in where there is one.

import { say, unit } from "./talk.js";

const form = document.getElementById("ask");
const reading = form.elements.reading;
const sheet = form.elements.sheet;
const caliper = form.querySelector("[data-caliper]");

/** @param {{ board: import("./board.js").Board, closed: () => void }} parts */
export function startAsk({ board, closed }) {
  let wish = null;
  let read = "";

  function hide() {
    form.hidden = true;
    form.reset();
    wish = null;
    read = "";
  }

  function close() {
    hide();
    closed();
  }

  form.addEventListener("submit", async (event) => {
    event.preventDefault();
    const text = reading.value.trim();
    if (!text && !wish.optional) return say("Type a size first, for example 84 mm.", true);
    const answered = wish;
    const done = await wish.send({ reading: text, sheet: sheet.value, stand_in: Boolean(text) && text === read });
    if (wish !== answered) return;
    done ? close() : reading.select();
  });
  form.querySelector("[data-close]").addEventListener("click", close);
  caliper.addEventListener("click", async () => {
    try {
      const { reading_mm: mm } = await wish.caliper();
      read = unit === "in" ? `${(mm / 25.4).toFixed(4)} in` : `${mm.toFixed(2)} mm`;
      reading.value = read;
      say("");
    } catch (problem) {
      say(problem.message, true);
    }
    reading.focus();
  });

  return {
    hide,
    isOpen: () => !form.hidden,
    /** @param {{ label: string, at: number[], sheet?: string, optional?: boolean, caliper?: any, send: (values: any) => Promise<any> }} wanted */
    open(wanted) {
      hide();
      wish = wanted;
      form.hidden = false;
      form.querySelector("[data-label]").textContent = wanted.label;
      form.querySelector("[data-sheet]").hidden = !wanted.sheet;
      if (wanted.sheet) sheet.value = wanted.sheet;
      caliper.hidden = !wanted.caliper;
      const [x, y] = board.toScreen(wanted.at);
      const room = board.element;
      form.style.left = `${Math.min(Math.max(40, x - 60), room.clientWidth - form.offsetWidth - 12)}px`;
      form.style.top = `${Math.min(Math.max(90, y + 50), room.clientHeight - 90)}px`;
      reading.focus();
    },
  };
}
