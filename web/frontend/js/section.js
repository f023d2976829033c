// A section: the solid cut by a plane that is dragged, what is cut hatched as a drawing shows it (ISO 128-3).

const AXES = { side: [1, 0, 0], front: [0, 1, 0], plan: [0, 0, 1] };

/** @param {{ viewer: any, release: () => void, scale: number, word: string }} parts */
export function startSection({ viewer, release, scale, word }) {
  const card = /** @type {HTMLFormElement} */ (document.getElementById("section"));
  const along = /** @type {HTMLSelectElement} */ (card.elements.namedItem("along"));
  const at = /** @type {HTMLInputElement} */ (card.elements.namedItem("at"));
  const other = /** @type {HTMLInputElement} */ (card.elements.namedItem("other"));
  const told = card.querySelector("output");

  /** The slider goes through the bodies; it begins in their middle. */
  function range() {
    const [low, high] = viewer.reach(AXES[along.value]);
    Object.assign(at, { min: low, max: high, step: (high - low) / 400 || 1 });
    at.value = String((low + high) / 2);
  }

  /** Taken away is the half toward the eye, or the other. */
  function cut() {
    const sense = viewer.toward(AXES[along.value]) * (other.checked ? -1 : 1);
    viewer.cut(
      AXES[along.value].map((value) => value * sense),
      Number(at.value) * sense,
    );
    told.textContent = `${(Number(at.value) * scale).toFixed(scale === 1 ? 2 : 3)} ${word}`;
  }

  along.addEventListener("change", () => {
    range();
    cut();
  });
  at.addEventListener("input", cut);
  other.addEventListener("change", cut);
  card.querySelector("[data-close]").addEventListener("click", release);
  return {
    open() {
      card.hidden = false;
      range();
      cut();
      at.focus();
    },
    close() {
      if (card.hidden) return;
      card.hidden = true;
      viewer.cut(null, 0);
    },
  };
}
