// Shows of the goal's form what the chosen kind of goal needs. Without this module all of
// it is shown.
export function goalForm(form) {
  const kind = form.elements.goal;
  const show = () => {
    for (const part of form.querySelectorAll("[data-for]")) {
      const on = part.dataset.for.split(" ").includes(kind.value);
      part.hidden = !on;
      for (const field of part.querySelectorAll("input, select")) field.disabled = !on;
    }
  };
  kind.addEventListener("change", show);
  show();
}
