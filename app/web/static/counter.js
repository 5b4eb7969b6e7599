// The counter's form finds who has been here before while the name or the number is typed, and takes over what is
// known. Without this module the button beside the field does it.
export function counter(part) {
  const form = part.closest("form"),
    field = part.querySelector("#find"),
    found = part.querySelector("#found");
  if (!field) return;
  const other = part.querySelector("[data-other]"),
    known = part.querySelector("[data-known]");
  other.hidden = false;
  const names = ["name", "phone", "email", "address"];
  function take(who) {
    form.elements.customer.value = who?.customer ?? "";
    for (const n of names) form.elements[n].value = who?.[n] ?? "";
    known.hidden = !who;
    form.elements[who ? "pc" : "name"].focus();
  }
  let asked = 0;
  field.addEventListener("input", async () => {
    const mine = ++asked;
    await new Promise((later) => setTimeout(later, 180));
    if (mine !== asked) return;
    if (field.value.trim().length < 2) return found.replaceChildren();
    try {
      const answer = await fetch("/customers?q=" + encodeURIComponent(field.value));
      const page = new DOMParser().parseFromString(await answer.text(), "text/html").getElementById("found");
      if (mine === asked && page) found.replaceChildren(...page.childNodes);
    } catch {
      // The button finds them as well.
    }
  });
  field.addEventListener("keydown", (event) => {
    if (event.key !== "Enter") return;
    event.preventDefault(); // it would send the form
    (found.querySelector("[data-customer]") ?? form.elements.name).focus();
  });
  found.addEventListener("click", (event) => {
    const link = event.target.closest("[data-customer]");
    if (!link) return;
    event.preventDefault();
    take(link.dataset);
    found.replaceChildren();
    field.value = "";
  });
  other.addEventListener("click", () => take(null));
}
