// Shows what an amount means while it is typed. The core does the reckoning.
export function amounts(form) {
  const field = form.elements.by,
    means = form.querySelector(".means"),
    start = means.textContent;
  let asked = 0,
    timer;
  const tell = () => {
    clearTimeout(timer);
    timer = setTimeout(async () => {
      const turn = ++asked;
      if (!field.value.trim()) {
        means.textContent = start;
        means.classList.remove("care");
        return;
      }
      const query = new URLSearchParams({
        text: (form.elements.way?.value ?? "") + field.value,
        partition: form.elements.partition.value,
        do: form.elements.do.value,
        edge: form.elements.edge?.value ?? "",
      });
      if (form.elements.drop?.checked) query.set("drop", "yes");
      let answer;
      try {
        answer = await (await fetch(`${form.dataset.amount}&${query}`)).json();
      } catch {
        answer = {
          ok: false,
          text: "The program does not answer; the amount will be checked when the step is added.",
        };
      }
      if (turn !== asked) return; // a newer answer is on its way
      means.textContent = answer.ok ? `${answer.text}; ${answer.total}` : answer.text;
      means.classList.toggle("care", !answer.ok);
      field.setAttribute("aria-invalid", String(!answer.ok));
    }, 120);
  };
  field.addEventListener("input", tell);
  form.elements.drop?.addEventListener("change", tell);
  form.elements.way?.addEventListener("change", tell);
}
