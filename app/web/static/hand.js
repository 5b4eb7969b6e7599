// Hand work on the newest column of the map: an edge or a whole block is dragged, or moved
// by keys, with live numbers, and what is done becomes a step. How far it goes and why no
// further comes with the page; what a step leads to, the core says.
const MIB = 2 ** 20,
  GIB = 2 ** 30;
const EDGE = 7,
  HOLD = 5; // px: how near an edge is taken, how long a snap holds

export function size(bytes) {
  const minus = bytes < 0 ? "-" : "",
    b = Math.abs(bytes);
  for (const [unit, name] of [
    [2 ** 40, "TiB"],
    [GIB, "GiB"],
    [MIB, "MiB"],
  ])
    if (b >= unit) {
      const v = b / unit;
      return `${minus}${Number.isInteger(v) ? v : v.toFixed(v < 10 ? 2 : 1)} ${name}`;
    }
  return `${minus}${b} B`;
}

const exact = (bytes) => `${Math.abs(bytes).toLocaleString("en").replaceAll(",", "\u00a0")} bytes`;
const decimal = (bytes) => `${(Math.abs(bytes) / 1e9).toFixed(2)} GB`;

// turns tells what a movement of one grip by so many bytes is: a step, with its limit.
export function turns(hand, grip, bytes) {
  const pick = {
    end: bytes >= 0 ? ["grow", "end", hand.grow_end] : ["shrink", "end", hand.cut_end],
    head: bytes <= 0 ? ["grow", "head", hand.grow_head] : ["shrink", "head", hand.cut_head],
    all: bytes >= 0 ? ["slide", "", hand.slide_down] : ["slide", "", hand.slide_up],
  }[grip];
  const [act, edge, limit] = pick,
    far = Math.abs(bytes);
  return {
    act,
    edge,
    most: limit.most,
    bytes: Math.sign(bytes) * Math.min(far, limit.most),
    beyond: far > limit.most || (limit.most === 0 && far > 0) ? limit.why : "",
  };
}

// snap rounds a movement: to its limit, to a round size of the whole, to the alignment.
export function snap(total, grip, bytes, most, perPixel, free) {
  const far = Math.abs(bytes),
    sign = Math.sign(bytes);
  const grid = (n) => Math.round(n / MIB) * MIB;
  if (free) return sign * Math.min(grid(far), most);
  if (Math.abs(far - most) < HOLD * perPixel) return sign * most;
  if (far < HOLD * perPixel) return 0;
  // The roundest size within reach of the hand.
  const after = grip === "all" ? far : total + (grip === "end" ? bytes : -bytes);
  for (const unit of [1000, 500, 100, 50, 10, 5, 1, 0.5]
    .map((u) => u * GIB)
    .concat([256, 128, 64, 16].map((u) => u * MIB))) {
    const round = Math.round(after / unit) * unit,
      off = round - after;
    if (round > 0 && Math.abs(off) < HOLD * perPixel) {
      const moved = grip === "all" ? round : Math.abs(round - total);
      if (moved <= most && moved > 0) return sign * grid(moved);
    }
  }
  return sign * Math.min(grid(far), most);
}

export function byHand(root, form, send) {
  const NS = "http://www.w3.org/2000/svg";
  const make = (name, attributes) => {
    const e = document.createElementNS(NS, name);
    for (const [k, v] of Object.entries(attributes)) e.setAttribute(k, v);
    return e;
  };
  const over = make("svg", { class: "over", "aria-hidden": "true" });
  const outline = make("rect", { class: "going", rx: 4 }),
    label = make("text", { class: "going-size" }),
    limit = make("text", { class: "going-why" });
  over.append(outline, label, limit);
  const what = form.querySelector("[data-what]"),
    now = form.querySelector("[data-now]"),
    why = form.querySelector("[data-why]"),
    field = form.elements.by;
  let state = null; // what the hand holds

  // begin takes a block by one of its grips.
  function begin(block, beside, place, grip) {
    const hand = place.hand;
    state = { block, beside, place, hand, grip, bytes: 0, turn: turns(hand, grip, 0) };
    // No larger than the column: only what changes is painted anew.
    over.setAttribute("width", place.w + 160);
    over.setAttribute("height", place.height);
    over.style.left = `${place.x}px`;
    if (!over.isConnected) root.append(over);
    form.hidden = false;
    what.textContent = `${hand.title}: ${{ end: "its end", head: "its head", all: "slide" }[grip]}`;
    field.value = "";
    field.placeholder = grip === "all" ? "42 GiB, -all" : "42 GiB, half";
    show();
  }

  // show draws where the hand is; only the layer over the map changes.
  function show() {
    const { block, beside, place, hand, grip, bytes, turn } = state;
    const px = pixels(bytes);
    let y = block.y,
      h = block.h;
    if (grip === "end") h += px;
    else if (grip === "head") {
      y += px;
      h -= px;
    } else y += px;
    outline.setAttribute("x", 0.5);
    outline.setAttribute("width", place.w - 1);
    outline.setAttribute("y", y);
    outline.setAttribute("height", Math.max(h, 3));
    const total = block.bytes + (grip === "end" ? bytes : grip === "head" ? -bytes : 0);
    const text =
      grip === "all"
        ? `${bytes < 0 ? "−" : "+"}${size(Math.abs(bytes))}`
        : `${size(total)} (${bytes === 0 ? "as it is" : `${total > block.bytes ? "+" : "−"}${size(Math.abs(bytes))}`})`;
    label.textContent = text;
    label.setAttribute("x", 8);
    label.setAttribute("y", Math.max((grip === "head" ? y : y + Math.max(h, 3)) - 5, 12));
    limit.textContent = turn.beyond ? "no further" : "";
    limit.setAttribute("x", 8);
    limit.setAttribute("y", Number(label.getAttribute("y")) + 15);
    over.classList.toggle("stopped", Boolean(turn.beyond));
    clearTimeout(telling);
    if (performance.now() - told > 100) tell();
    else telling = setTimeout(tell, 100);
  }

  // tell says the same in the line below the map, a few times a second.
  let told = 0,
    telling;
  function tell() {
    if (!state) return;
    told = performance.now();
    const { block, hand, grip, bytes, turn } = state;
    const total = block.bytes + (grip === "end" ? bytes : grip === "head" ? -bytes : 0);
    const left = hand.used && grip !== "all" ? `, ${size(Math.max(total - hand.used, 0))} free` : "";
    now.textContent =
      bytes === 0
        ? "nothing changed"
        : grip === "all"
          ? `${size(Math.abs(bytes))} toward the ${bytes < 0 ? "start" : "end"} = ${decimal(bytes)} = ${exact(bytes)}`
          : `${turn.act === "grow" ? "gains" : "gives up"} ${size(Math.abs(bytes))} = ${decimal(bytes)}, then ${size(total)}${left}`;
    why.textContent = turn.beyond;
  }

  // A movement's pixels and bytes follow what it moves into: the gap beside, or the block.
  const room = (bytes) => {
    const { block, beside, grip } = state;
    if (grip === "all") return bytes >= 0 ? beside.below : beside.above;
    const into = grip === "end" ? bytes >= 0 : bytes <= 0;
    return into ? (grip === "end" ? beside.below : beside.above) : block;
  };
  function pixels(bytes) {
    const r = room(bytes);
    return r && r.bytes ? (bytes / r.bytes) * r.h : 0;
  }
  const perPixel = (dy) => {
    const r = room(dy);
    return r && r.h ? r.bytes / r.h : GIB / 8;
  };

  function move(bytes) {
    state.turn = turns(state.hand, state.grip, bytes);
    state.bytes = state.turn.bytes;
    show();
  }

  // drag moves to so many pixels from where it was taken.
  function drag(dy, free) {
    const per = perPixel(dy),
      raw = dy * per,
      turn = turns(state.hand, state.grip, raw);
    const bytes = snap(state.block.bytes, state.grip, turn.bytes, turn.most, per, free);
    state.turn = { ...turn, bytes };
    state.bytes = bytes;
    show();
  }

  function leave() {
    state = null;
    over.remove();
    form.hidden = true;
  }

  // done makes a step of it.
  function done(text) {
    const { hand, grip, bytes, turn } = state;
    const typed = text?.trim();
    if (!typed && bytes === 0) return leave();
    const body = new URLSearchParams({ partition: hand.number });
    if (typed) {
      const minus = typed.startsWith("-");
      body.set("do", grip === "all" ? "slide" : minus ? "shrink" : "grow");
      body.set("by", grip === "all" ? typed : typed.replace(/^[-+]\s*/, ""));
      if (grip !== "all") body.set("edge", grip);
    } else {
      body.set("do", turn.act);
      body.set("by", `${turn.act === "slide" && bytes < 0 ? "-" : ""}${Math.abs(bytes)} B`);
      if (turn.edge) body.set("edge", turn.edge);
    }
    leave();
    send(body);
  }

  form.addEventListener("submit", (event) => {
    event.preventDefault();
    if (!state) return;
    const at = state.block.node;
    done(field.value);
    at?.focus();
  });
  form.querySelector("[data-leave]").addEventListener("click", () => {
    const at = state?.block.node;
    leave();
    at?.focus();
  });
  form.addEventListener("keydown", (event) => {
    if (event.key !== "Escape") return;
    const at = state?.block.node;
    leave();
    at?.focus();
  });

  // pointer takes hold of a block; a movement of a few pixels makes a drag of it.
  function pointer(event, block, beside, place, node) {
    if (event.button !== 0) return;
    const box = node.getBoundingClientRect();
    const grip = event.clientY - box.top < EDGE ? "head" : box.bottom - event.clientY < EDGE ? "end" : "all";
    const from = event.clientY;
    let held = false;
    const on = (e) => {
      if (!held) {
        if (Math.abs(e.clientY - from) < 4) return;
        held = true;
        getSelection()?.removeAllRanges(); // or the browser looks after its caret in every frame
        begin(block, beside, place, grip);
        root.classList.add("held");
      }
      e.preventDefault();
      at = [e.clientY - from, e.altKey];
      frame ||= requestAnimationFrame(() => {
        frame = 0;
        if (state) drag(...at);
      });
    };
    let at,
      frame = 0; // once for each frame that is drawn
    const drop = () => {
      cancelAnimationFrame(frame);
      removeEventListener("pointermove", on);
      removeEventListener("pointerup", off);
      removeEventListener("pointercancel", off);
      removeEventListener("keydown", key, true);
      root.classList.remove("held");
    };
    const off = (e) => {
      drop();
      if (!held || !state) return;
      if (e.type === "pointerup") {
        if (at) drag(...at);
        done();
      } else leave();
    };
    // Typing while holding gives an exact amount; Escape lets go.
    const key = (e) => {
      if (!state) return;
      if (e.key === "Escape") leave();
      else if (/^[0-9]$/.test(e.key)) {
        drop();
        field.value = e.key;
        field.focus();
      } else return;
      e.preventDefault();
      e.stopPropagation();
    };
    addEventListener("pointermove", on);
    addEventListener("pointerup", off);
    addEventListener("pointercancel", off);
    addEventListener("keydown", key, true);
  }

  // keys work a block that has the focus: e its end, h its head, s to slide it; then the
  // arrows, a page for ten times as much, Home and End for all, a digit for an exact amount.
  function keys(event, block, beside, place) {
    if (event.ctrlKey || event.metaKey) return false;
    const grip = { e: "end", h: "head", s: "all" }[event.key];
    if (grip) {
      begin(block, beside, place, grip);
      return true;
    }
    if (!state || state.block !== block) return false;
    const most = Math.max(
      state.hand.grow_end.most,
      state.hand.slide_down.most,
      state.hand.slide_up.most,
      state.hand.cut_end.most,
      MIB,
    );
    const step = most > 40 * GIB ? GIB : most > GIB ? 64 * MIB : MIB;
    const by = { ArrowDown: step, ArrowUp: -step, PageDown: 10 * step, PageUp: -10 * step }[event.key];
    if (by) move(state.bytes + by);
    else if (event.key === "Home") move(-Number.MAX_SAFE_INTEGER);
    else if (event.key === "End") move(Number.MAX_SAFE_INTEGER);
    else if (event.key === "Enter") done();
    else if (event.key === "Escape") leave();
    else if (/^[0-9-]$/.test(event.key)) {
      field.value = event.key;
      field.focus();
    } else return false;
    return true;
  }

  return { pointer, keys, leave };
}
