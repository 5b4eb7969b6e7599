// Shows of the goal's form what the chosen kind of goal needs. Without this module all of
// it is shown.
export function goalForm(root) {
  const form = root.querySelector("form[data-goal]");
  if (!form) return;
  const kind = form.elements.goal;
  const show = () => {
    for (const part of form.querySelectorAll("[data-for]")) {
      const on = part.dataset.for.split(" ").includes(kind.value);
      part.hidden = !on;
      for (const field of part.querySelectorAll("input, select")) field.disabled = !on;
    }
  };
  if (!form.dataset.bound) kind.addEventListener("change", show);
  form.dataset.bound = "yes";
  show();
}
