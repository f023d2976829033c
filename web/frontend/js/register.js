// The register of jobs, and the form for a new one.

document.querySelector("[data-filter-jobs]")?.addEventListener("input", (event) => {
  const wanted = event.target.value.trim().toLowerCase();
  for (const row of document.querySelectorAll("[data-job-row]")) row.hidden = !row.dataset.jobRow.includes(wanted);
});

const drop = document.getElementById("drop");
if (drop) {
  const input = drop.querySelector("input");
  const show = () => {
    if (input.files[0]) drop.querySelector("[data-chosen]").textContent = input.files[0].name;
  };
  input.addEventListener("change", show);
  const camera = document.querySelector("[data-camera]");
  camera?.addEventListener("change", () => {
    input.files = camera.files;
    show();
  });
  for (const name of ["dragover", "drop"]) document.addEventListener(name, (event) => event.preventDefault());
  document.addEventListener("drop", (event) => {
    if (!event.dataTransfer.files.length) return;
    input.files = event.dataTransfer.files;
    show();
  });
  document.addEventListener("paste", (event) => {
    if (!event.clipboardData.files.length) return;
    input.files = event.clipboardData.files;
    show();
  });
}
