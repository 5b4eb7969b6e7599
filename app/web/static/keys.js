// The keys that work from everywhere.
export function keys(map) {
  const dialog = document.getElementById("keys");
  document.querySelector("[data-keys]")?.addEventListener("click", () => dialog.showModal());
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || dialog.open) return;
    if (event.target.closest("input, textarea, select")) return;
    const act = {
      "?": () => dialog.showModal(),
      "/": () => {
        (document.getElementById("find") ?? document.getElementById("anything"))?.focus();
      },
      g: () => {
        const goal = document.getElementById("goal"),
          folded = goal?.closest("details");
        if (folded) folded.open = true;
        goal?.focus();
      },
      u: () => document.querySelector('[data-key="u"]')?.click(),
      r: () => document.querySelector('[data-key="r"]')?.click(),
      t: () => map?.scale(),
      ",": () => map?.step(-1),
      ".": () => map?.step(1),
      w: () => document.querySelector(".part:not([hidden]) .why")?.focus(),
    }[event.key];
    if (!act) return;
    event.preventDefault();
    act();
  });
}
