// Pictures on the solid: which face each lies on, and the tool that lays one there.

import { command } from "./talk.js";
import { tell } from "./tray.js";

const card = document.getElementById("lay");
const BASE = { origin: [0, 0, 0], across: [1, 0, 0], up: [0, 1, 0], normal: [0, 0, 1] };

/** Corners of a picture in space. @param {{ matrix: number[], size: number[] }} picture @param {typeof BASE} frame */
function cornersOf({ matrix: [a, b, c, d, e, f], size: [width, height] }, { origin, across, up }) {
  return [
    [0, 0],
    [width, 0],
    [width, height],
    [0, height],
  ].map(([x, y]) => {
    const [u, v] = [a * x + c * y + e, b * x + d * y + f];
    return origin.map((value, axis) => value + u * across[axis] + v * up[axis]);
  });
}

/** @param {{ viewer: ReturnType<typeof import("./viewer.js").createViewer>, release: () => void }} parts */
export function startLaying({ viewer, release }) {
  let state = { pictures: [], faces: [] };
  let face = null;

  const current = () => state.pictures.find((picture) => picture.id === card.elements.picture.value);

  function draw() {
    const shown = state.pictures.filter((picture) => picture.frame || !card.hidden);
    viewer.showPictures(
      shown.map((picture) => {
        const frame = picture.frame ?? BASE;
        return { url: picture.url, corners: cornersOf(picture, frame), normal: frame.normal, opacity: picture.opacity };
      }),
    );
  }

  function told() {
    const one = current();
    const where = !one
      ? "There is no picture with a known length; give it one in Reference first."
      : one.lost
        ? `${one.name} lay on ${one.on}, which is not there any more. Click another flat face.`
        : `${one.name} lies on ${one.on}. Click the flat face that it shows.`;
    card.querySelector("[data-chosen]").textContent = face ? `${where} Chosen: ${face.words}.` : where;
    card.querySelector("button").disabled = !(face && one);
    card.querySelector("[data-base]").disabled = !one || one.plane === "plan";
  }

  async function lay(plane) {
    if (await command("reference.lay_on", { picture: current().id, plane })) choose(null);
  }

  function choose(found) {
    face = found;
    viewer.chooseFaces(found?.body ?? "", found ? [found.name] : []);
    told();
  }

  card.addEventListener("submit", (event) => {
    event.preventDefault();
    lay({ body: face.body, face: face.name });
  });
  card.querySelector("[data-base]").addEventListener("click", () => lay("plan"));
  card.querySelector("[data-close]").addEventListener("click", release);
  card.elements.picture.addEventListener("change", told);

  return {
    show(now) {
      state = now;
      const before = card.elements.picture.value;
      card.elements.picture.replaceChildren(
        ...state.pictures.map((picture) => new Option(picture.name, picture.id, false, picture.id === before)),
      );
      draw();
      told();
    },
    open() {
      card.hidden = false;
      choose(null);
      draw();
    },
    close() {
      card.hidden = true;
      face = null;
      draw();
    },
    /** @param {number[]} pixel */
    click(pixel) {
      const found = viewer.faceAt(pixel);
      const flat = found && state.faces.find((one) => one.body === found.body && one.name === found.name);
      if (!flat)
        return tell(
          found ? "That face is not flat; a picture lies on a flat one." : "No face there; click on the solid.",
        );
      choose(flat);
    },
  };
}
