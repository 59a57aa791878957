"use strict";
(async () => {
  const $ = (id) => document.getElementById(id);
  const make = (tag, text, attributes) => {
    const element = document.createElement(tag);
    if (text !== undefined) element.textContent = text;
    for (const [name, value] of Object.entries(attributes || {})) element.setAttribute(name, value);
    return element;
  };
  const unpacked = (id) => {
    const bytes = Uint8Array.from(atob($(id).textContent), (c) => c.charCodeAt(0));
    return new Response(new Blob([bytes]).stream().pipeThrough(new DecompressionStream("deflate")));
  };
  const count = (number, word) => `${number.toLocaleString("en")} ${word}${number === 1 ? "" : "s"}`;

  // -- what is open, and where a name leads ---------------------------------------------------

  const goTo = (hash) => {
    const place = hash.length > 1 ? $(decodeURIComponent(hash.slice(1))) : null;
    if (!place) return;
    for (let e = place; e; e = e.parentElement) if (e.tagName === "DETAILS") e.open = true;
    place.scrollIntoView({ block: "center" });
    const target = place.matches("details") ? place.querySelector("summary") : place;
    if (!target.matches("summary, a, input, canvas")) target.setAttribute("tabindex", "-1");
    target.focus({ preventScroll: true });
  };
  addEventListener("hashchange", () => goTo(location.hash));

  if (!("DecompressionStream" in window)) {
    $("m-wait").textContent = "This browser is too old to draw the matrix; the lines below say the same.";
    return;
  }
  let data, cells;
  try {
    data = await unpacked("oaktag-data").json();
    cells = new Uint16Array(await unpacked("oaktag-cells").arrayBuffer());
  } catch (error) {
    $("m-wait").textContent = `The data of this page cannot be read (${error}); was the file cut off?`;
    return;
  }
  const { groups, sets, forms, services, lines, applies, ends, words, segments } = data;
  const size = groups.length;
  for (let n = 0; n < size * size; n++) cells[size * size + n] = (cells[size * size + n] || cells[n] + 1) - 1;
  lines.line.reduce((before, more, n) => (lines.line[n] = before + more), 0);
  const at = (answer, s, d) => cells[(answer ? size * size : 0) + s * size + d];
  const link = (group) => make("a", groups[group].group, { href: `#g${group}` });
  const listed = (parent, items, most = 12) => {
    items.slice(0, most).forEach((group, n) => {
      if (n) parent.append(", ");
      parent.append(link(group));
    });
    if (items.length > most) parent.append(` and ${items.length - most} more`);
  };

  // -- lines that speak of a cell -------------------------------------------------------------

  const standsFor = new Map(ends.map(([word, list]) => [word, new Set(list)]));
  // The groups of both ends of a row, as it is tried; of its own group alone, no second ones.
  const sides = (n) => {
    const line = applies[0][n], ends2 = [lines.from[line], lines.to[line]];
    if (applies[1][n]) ends2.reverse();
    return ends2.map((word) => standsFor.get(word));
  };
  const speaking = (s, d) => {
    const found = [];
    for (let n = 0; n < applies[0].length; n++) {
      const [sources, targets] = sides(n);
      if (sources.has(s) && (targets ? targets.has(d) : s === d)) found.push(applies[0][n]);
    }
    return [...new Set(found)];
  };
  const said = (line, column) => (column === "line" ? lines.line[line] : words[lines[column][line]]);

  // -- groups and points, when they are opened ------------------------------------------------

  const byForm = (parent, title, pick) => {
    const kinds = new Map();
    for (let other = 0; other < size; other++) {
      const form = pick(other);
      if (form) kinds.set(form, [...(kinds.get(form) || []), other]);
    }
    parent.append(make("h4", title));
    if (!kinds.size) parent.append(make("p", "nothing and nobody"));
    const list = make("ul");
    for (const [form, others] of [...kinds].sort((a, b) => b[1].length - a[1].length)) {
      const item = make("li", `${forms[form].allows}: `);
      listed(item, others, 30);
      list.append(item);
    }
    parent.append(list);
  };
  const fillGroup = (details) => {
    const inside = details.querySelector(".inside");
    const group = Number(details.dataset.group);
    if (inside.childNodes.length) return;
    const { members, count: all, sets: of, bindings } = groups[group];
    const about = make("p", count(bindings, "binding"));
    of.forEach((name, n) => {
      about.append(n ? ", " : ` · in the set${of.length === 1 ? "" : "s"} `, make("a", name, { href: `#t${sets.findIndex((s) => s.set === name)}` }));
    });
    inside.append(about);
    byForm(inside, "May reach", (other) => at(0, group, other));
    byForm(inside, "May be reached by", (other) => at(0, other, group));
    inside.append(make("h4", `Members${members.length < all ? `, the first ${members.length} of ${all.toLocaleString("en")}` : ""}`));
    const table = make("table");
    const head = table.createTHead().insertRow();
    for (const name of ["endpoint", "kind", "addresses", "why it is here"]) head.append(make("th", name, { scope: "col" }));
    const body = table.createTBody();
    for (const member of members) {
      const row = body.insertRow();
      for (const value of member) row.insertCell().textContent = value;
    }
    const scroll = make("div", undefined, { class: "scroll" });
    scroll.append(table);
    inside.append(scroll);
  };
  const fillPoint = (details) => {
    const inside = details.querySelector(".inside");
    const text = data.lists[Number(details.dataset.point)];
    if (inside.querySelector("pre, .told")) return;
    inside.append(text ? make("pre", text, { tabindex: "0" }) : make("p", "The lists are too long for this page: oaktag compile writes them.", { class: "told" }));
  };
  for (const details of document.querySelectorAll("details[data-group]")) details.addEventListener("toggle", () => fillGroup(details));
  for (const details of document.querySelectorAll("details[data-point]")) details.addEventListener("toggle", () => fillPoint(details));

  // -- the matrix -----------------------------------------------------------------------------

  const canvas = $("m-canvas"), aside = $("m-said");
  $("m-wait").remove();
  for (const part of document.querySelectorAll("#matrix [hidden]:not(#m-fold), #n-ask")) part.hidden = false;
  const [order, answerOf, mode, owner, service, hide] = ["order", "answer", "mode", "owner", "service", "hide"].map((n) => $(`m-${n}`));
  const owners = [...new Set([...groups.map((g) => g.owner), ...lines.owner.map((n) => words[n])])].filter(Boolean).sort();
  for (const name of owners) owner.append(make("option", name));
  services.forEach((s, n) => service.append(make("option", s.name, { value: n })));
  if (data.more_services) service.append(make("option", `and ${data.more_services} more`, { disabled: "" }));
  for (const group of groups) $("m-groups").append(make("option", undefined, { value: group.group }));

  let axis = [], wanted = null, shown = [[], []], cell = 18, hits = null, kinds = [], corner = [0, 0], cursor = [0, 0], pinned = false;
  const folded = new Set();

  const classes = () => {
    if (order.value === "file") return null;
    const of = new Map();
    groups.forEach((group, n) => {
      const name = order.value === "owner" ? group.owner : group.sets[0];
      const key = n === 0 || !name ? `\u0000${n}` : name;
      of.set(key, [...(of.get(key) || []), n]);
    });
    return of;
  };
  const arrange = () => {
    const of = classes();
    $("m-fold").hidden = !of;
    axis = [];
    if (!of) groups.forEach((group, n) => axis.push({ name: group.group, of: [n] }));
    else {
      for (const [name, members] of of) {
        if (members.length > 1 && folded.has(name)) axis.push({ name: `${name} (${members.length})`, fold: name, of: members });
        else for (const n of members) axis.push({ name: groups[n].group, fold: members.length > 1 ? name : undefined, of: [n] });
      }
    }
    kinds = [];
    filter();
  };
  const flags = () => new Uint8Array(size * size);
  const spread = (found, row) => {
    const [sources, targets] = sides(row);
    for (const s of sources) {
      if (!targets) found[s * size + s] = 1;
      else for (const d of targets) found[s * size + d] = 1;
    }
  };
  const filter = () => {
    const parts = [];
    if (mode.value === "differ") {
      const found = flags();
      for (let n = 0; n < size * size; n++) found[n] = cells[n] !== cells[size * size + n];
      parts.push(found);
    } else if (mode.value) {
      const found = flags();
      for (let n = 0; n < applies[0].length; n++) if (mode.value === "none" || said(applies[0][n], "mode").startsWith(mode.value)) spread(found, n);
      parts.push(mode.value === "none" ? found.map((v) => 1 - v) : found);
    }
    if (owner.value) {
      const found = flags();
      for (let n = 0; n < applies[0].length; n++) if (said(applies[0][n], "owner") === owner.value) spread(found, n);
      groups.forEach((group, d) => {
        if (group.owner === owner.value) for (let s = 0; s < size; s++) found[s * size + d] = 1;
      });
      parts.push(found);
    }
    if (service.value) {
      const allowed = new Set(services[service.value].forms), answer = answerOf.value === "would" ? 1 : 0;
      const found = flags();
      for (let n = 0; n < size * size; n++) found[n] = allowed.has(cells[answer * size * size + n]) ? 1 : 0;
      parts.push(found);
    }
    wanted = parts.length ? parts.reduce((a, b) => a.map((v, n) => v & b[n])) : null;
    const many = axis.length, all = axis.map((_, n) => n);
    hits = null;
    shown = [all, all];
    if (wanted) {
      hits = new Uint8Array(many * many);
      for (let i = 0; i < many; i++) for (let j = 0; j < many; j++) hits[i * many + j] = within(i, j, (s, d) => wanted[s * size + d]) ? 1 : 0;
      if (hide.checked) {
        const rows = all.filter((i) => hits.subarray(i * many, (i + 1) * many).includes(1));
        shown = [rows, all.filter((j) => rows.some((i) => hits[i * many + j]))];
      }
    }
    cursor = cursor.map((c, n) => Math.max(0, Math.min(c, shown[n].length - 1)));
    draw();
    tell();
  };
  // Whether anything holds of a cell of two items of the axis, each of one group or of more.
  const within = (i, j, holds) => {
    const sources = axis[i].of, targets = axis[j].of;
    for (const s of sources) for (const d of targets) if (holds(s, d)) return true;
    return false;
  };
  const hit = (i, j) => !hits || hits[i * axis.length + j];
  // The content of each cell of the axis, -1 where its cells differ.
  const contents = (answer) => {
    const many = axis.length, found = new Int32Array(many * many);
    for (let i = 0; i < many; i++) {
      for (let j = 0; j < many; j++) {
        const form = at(answer, axis[i].of[0], axis[j].of[0]);
        const alone = axis[i].of.length === 1 && axis[j].of.length === 1;
        found[i * many + j] = alone || !within(i, j, (s, d) => at(answer, s, d) !== form) ? form : -1;
      }
    }
    return found;
  };

  const kindsOf = (answer) => (kinds[answer] ||= contents(answer));

  const LEFT = 150, TOP = 130;
  const rgb = (colour) => [1, 3, 5].map((n) => parseInt(colour.slice(n, n + 2), 16));
  // Where cells are smaller than what can be drawn one by one: each dot is the fullest of its cells.
  const fine = (pen, scale, wide, high, answer, colours) => {
    kindsOf(answer);
    const [paper, full, line] = colours.map(rgb), many = axis.length, [rows, columns] = shown;
    const across = Math.max(1, Math.floor((wide - LEFT) * scale)), down = Math.max(1, Math.floor((high - TOP) * scale));
    const image = pen.createImageData(across, down);
    const range = (dot, n) => {
      const from = (dot / scale + corner[n]) / cell, to = ((dot + 1) / scale + corner[n]) / cell;
      return [Math.floor(from), Math.min(shown[n].length, Math.max(Math.floor(from) + 1, Math.floor(to)))];
    };
    const sides = Array.from({ length: across }, (_, x) => range(x, 1));
    for (let y = 0; y < down; y++) {
      const [top, bottom] = range(y, 0);
      for (let x = 0; x < across; x++) {
        let share = -1, mixed = false, inside = false;
        for (let i = top; i < bottom; i++) {
          for (let j = sides[x][0]; j < sides[x][1]; j++) {
            const place = rows[i] * many + columns[j], form = kinds[answer][place];
            const here = !hits || hits[place] === 1;
            if (form < 0) mixed = mixed || here;
            else if (here || !inside) share = inside || !here ? Math.max(share, forms[form].share) : forms[form].share;
            inside = inside || here;
          }
        }
        const weight = share > 0 ? (0.3 + 0.7 * share) * (inside ? 1 : 0.12) : 0;
        const dot = mixed && share <= 0 ? line : paper.map((c, n) => c + (full[n] - c) * weight);
        image.data.set([dot[0], dot[1], dot[2], 255], (y * across + x) * 4);
      }
    }
    pen.putImageData(image, Math.round(LEFT * scale), Math.round(TOP * scale));
  };
  const draw = () => {
    const style = getComputedStyle(document.documentElement);
    const colour = (name) => style.getPropertyValue(`--${name}`).trim();
    const [paper, raised, ink, quiet, line, full, mark] = ["paper", "raised", "ink", "quiet", "line", "full", "mark"].map(colour);
    const scale = devicePixelRatio || 1, wide = canvas.clientWidth, high = canvas.clientHeight;
    if (canvas.width !== Math.round(wide * scale)) canvas.width = Math.round(wide * scale);
    if (canvas.height !== Math.round(high * scale)) canvas.height = Math.round(high * scale);
    const pen = canvas.getContext("2d");
    pen.setTransform(scale, 0, 0, scale, 0, 0);
    pen.fillStyle = raised;
    pen.fillRect(0, 0, wide, high);
    const answer = answerOf.value === "would" ? 1 : 0;
    const [rows, columns] = shown;
    const first = corner.map((c) => Math.floor(c / cell));
    const last = [Math.min(rows.length, Math.ceil((corner[0] + high - TOP) / cell)), Math.min(columns.length, Math.ceil((corner[1] + wide - LEFT) / cell))];
    pen.save();
    pen.beginPath();
    pen.rect(LEFT, TOP, wide - LEFT, high - TOP);
    pen.clip();
    pen.textAlign = "center";
    pen.textBaseline = "middle";
    pen.font = `${Math.min(13, cell * 0.62)}px ui-monospace, monospace`;
    if (cell < 4) fine(pen, scale, wide, high, answer, [raised, full, line]);
    else {
      kindsOf(0);
      kindsOf(1);
    }
    for (let i = first[0]; cell >= 4 && i < last[0]; i++) {
      const row = rows[i], y = TOP + i * cell - corner[0];
      for (let j = first[1]; j < last[1]; j++) {
        const column = columns[j], x = LEFT + j * cell - corner[1];
        const form = kinds[answer][row * axis.length + column], other = kinds[1 - answer][row * axis.length + column];
        const out = !hit(row, column), gap = cell > 5 ? 1 : 0;
        pen.globalAlpha = out ? 0.12 : 1;
        if (form < 0) {
          pen.fillStyle = line;
          pen.fillRect(x, y, cell - gap, cell - gap);
          if (cell > 6) {
            pen.strokeStyle = ink;
            pen.beginPath();
            pen.moveTo(x + 2, y + cell - 3);
            pen.lineTo(x + cell - 3, y + 2);
            pen.stroke();
          }
        } else {
          const share = forms[form].share;
          pen.fillStyle = cell > 5 ? paper : raised;
          pen.fillRect(x, y, cell - gap, cell - gap);
          if (share) {
            pen.globalAlpha *= 0.2 + 0.8 * share;
            pen.fillStyle = full;
            pen.fillRect(x, y, cell - gap, cell - gap);
            pen.globalAlpha = out ? 0.12 : 1;
          }
          if (cell >= 12) {
            pen.fillStyle = share > 0.55 ? paper : ink;
            pen.fillText(forms[form].code, x + cell / 2, y + cell / 2 + 0.5, cell - 2);
          }
        }
        if (form !== other && cell > 3) {
          pen.fillStyle = mark;
          pen.beginPath();
          pen.moveTo(x + cell - gap, y);
          pen.lineTo(x + cell - gap - Math.max(3, cell / 2.6), y);
          pen.lineTo(x + cell - gap, y + Math.max(3, cell / 2.6));
          pen.fill();
        }
      }
    }
    pen.globalAlpha = 1;
    const [ci, cj] = cursor;
    if (rows.length && columns.length) {
      pen.strokeStyle = pinned ? mark : ink;
      pen.lineWidth = pinned ? 3 : 2;
      pen.strokeRect(LEFT + cj * cell - corner[1] - 0.5, TOP + ci * cell - corner[0] - 0.5, Math.max(3, cell), Math.max(3, cell));
      pen.lineWidth = 1;
    }
    pen.restore();
    const step = Math.ceil(13 / cell);
    pen.fillStyle = ink;
    pen.textBaseline = "middle";
    const label = (item, n, across) => {
      pen.fillStyle = cursor[across] === n ? ink : quiet;
      pen.font = `${cursor[across] === n ? "bold " : ""}12px system-ui, sans-serif`;
      return item.fold && item.of.length > 1 ? `▸ ${item.name}` : item.name;
    };
    pen.save();
    pen.beginPath();
    pen.rect(0, TOP, LEFT, high - TOP);
    pen.clip();
    pen.textAlign = "right";
    for (let i = first[0]; i < last[0]; i++) if (i % step === 0 || cursor[0] === i) pen.fillText(label(axis[rows[i]], i, 0), LEFT - 8, TOP + (i + 0.5) * cell - corner[0], LEFT - 12);
    pen.restore();
    pen.save();
    pen.beginPath();
    pen.rect(LEFT, 0, wide - LEFT, TOP);
    pen.clip();
    pen.textAlign = "left";
    for (let j = first[1]; j < last[1]; j++) {
      if (j % step !== 0 && cursor[1] !== j) continue;
      pen.save();
      pen.translate(LEFT + (j + 0.5) * cell - corner[1], TOP - 8);
      pen.rotate(-Math.PI / 2.6);
      pen.fillText(label(axis[columns[j]], j, 1), 0, 0, TOP);
      pen.restore();
    }
    pen.restore();
    if (!rows.length || !columns.length) {
      pen.textAlign = "center";
      pen.fillStyle = ink;
      pen.fillText("no cell is like that", wide / 2, high / 2);
    }
  };

  const tell = () => {
    aside.replaceChildren();
    const [rows, columns] = shown;
    const row = axis[rows[cursor[0]]], column = axis[columns[cursor[1]]];
    if (!row || !column) return aside.append(make("p", "No cell is like that."));
    const title = make("h3");
    const side = (item) => (item.of.length === 1 ? title.append(link(item.of[0])) : title.append(`${item.fold}: ${count(item.of.length, "group")}`));
    side(row);
    title.append(" → ");
    side(column);
    aside.append(title);
    if (pinned) aside.append(make("p", "held: Escape lets it go", { class: "held" }));
    if (row.of.length > 1 || column.of.length > 1) {
      const kinds = new Map();
      for (const s of row.of) for (const d of column.of) kinds.set(at(0, s, d), (kinds.get(at(0, s, d)) || 0) + 1);
      const list = make("ul");
      for (const [form, n] of [...kinds].sort((a, b) => b[1] - a[1]).slice(0, 12)) list.append(make("li", `${count(n, "cell")}: ${forms[form].allows}`));
      aside.append(make("p", kinds.size > 1 ? "These cells differ:" : "All of these cells are alike:"), list);
      return undefined;
    }
    const [s, d] = [row.of[0], column.of[0]];
    const now = at(0, s, d), would = at(1, s, d);
    aside.append(make("p", `${forms[now].code}  allows ${forms[now].allows}`));
    if (now !== would) aside.append(make("p", `▸ if observed lines acted: ${forms[would].code}  ${forms[would].allows}`, { class: "held" }));
    const found = speaking(s, d);
    if (!found.length) aside.append(make("p", "No line speaks of it: the default decides."));
    else {
      aside.append(make("p", `${count(found.length, "line")}, tried in this order:`));
      const list = make("ul");
      for (const n of found.slice(0, 12)) {
        const item = make("li");
        item.append(make("strong", said(n, "permission")), ` ${said(n, "from")} → ${said(n, "to")}, ${said(n, "mode")}`);
        const more = [["until", "expires"], ["owner", "owner"], ["note", "note"]].filter(([, c]) => said(n, c)).map(([w, c]) => `${w}: ${said(n, c)}`);
        const place = `${said(n, "file")}:${said(n, "line")}`;
        item.append(make("br"), $(`l${n}`) ? make("a", place, { href: `#l${n}` }) : place);
        if (more.length) item.append(make("br"), more.join(" · "));
        list.append(item);
      }
      aside.append(list);
      if (found.length > 12) aside.append(make("p", `and ${found.length - 12} more`));
    }
    return undefined;
  };
  const keep = () => {
    const seen2 = [canvas.clientHeight - TOP, canvas.clientWidth - LEFT];
    corner = corner.map((c, n) => Math.max(0, Math.min(c, shown[n].length * cell - seen2[n] + 8)));
  };
  const into = () => {
    const room = [canvas.clientHeight - TOP, canvas.clientWidth - LEFT];
    corner = corner.map((c, n) => Math.max(Math.min(c, cursor[n] * cell), (cursor[n] + 1) * cell - room[n]));
    keep();
    draw();
  };
  const zoom = (factor, x, y) => {
    const old = cell;
    cell = Math.max(0.1, Math.min(40, cell * factor));
    const px = [(y ?? TOP) - TOP, (x ?? LEFT) - LEFT];
    corner = corner.map((c, n) => ((c + px[n]) / old) * cell - px[n]);
    keep();
    draw();
  };
  const whole = () => {
    const most = Math.max(1, ...shown.map((s) => s.length));
    cell = Math.max(0.1, Math.min(26, Math.min(canvas.clientWidth - LEFT - 8, canvas.clientHeight - TOP - 8) / most));
    corner = [0, 0];
    draw();
  };
  const under = (event) => {
    const box = canvas.getBoundingClientRect();
    const x = event.clientX - box.left - LEFT, y = event.clientY - box.top - TOP;
    return [y < 0 ? -1 : Math.floor((y + corner[0]) / cell), x < 0 ? -1 : Math.floor((x + corner[1]) / cell)];
  };
  let drag = null;
  canvas.addEventListener("pointerdown", (event) => {
    drag = { x: event.clientX, y: event.clientY, corner: [...corner], moved: false };
    canvas.setPointerCapture(event.pointerId);
  });
  canvas.addEventListener("pointermove", (event) => {
    if (drag) {
      if (Math.abs(event.clientX - drag.x) + Math.abs(event.clientY - drag.y) > 4) drag.moved = true;
      if (drag.moved) {
        corner = [drag.corner[0] + drag.y - event.clientY, drag.corner[1] + drag.x - event.clientX];
        keep();
        return draw();
      }
    }
    const place = under(event);
    if (pinned || !shown[0][place[0]] && shown[0][place[0]] !== 0 || !shown[1][place[1]] && shown[1][place[1]] !== 0) return undefined;
    if (place[0] !== cursor[0] || place[1] !== cursor[1]) {
      cursor = place;
      draw();
      tell();
    }
    return undefined;
  });
  canvas.addEventListener("pointerup", (event) => {
    const moved = drag && drag.moved;
    drag = null;
    if (moved) return;
    const place = under(event);
    const head = place[0] < 0 ? axis[shown[1][place[1]]] : place[1] < 0 ? axis[shown[0][place[0]]] : null;
    if (head && head.fold) {
      if (folded.has(head.fold)) folded.delete(head.fold);
      else folded.add(head.fold);
      return arrange();
    }
    if (shown[0][place[0]] === undefined || shown[1][place[1]] === undefined) return;
    pinned = !(pinned && place[0] === cursor[0] && place[1] === cursor[1]);
    cursor = place;
    draw();
    tell();
  });
  canvas.addEventListener("wheel", (event) => {
    if (!event.ctrlKey && !event.metaKey) return;
    event.preventDefault();
    const box = canvas.getBoundingClientRect();
    zoom(event.deltaY < 0 ? 1.2 : 1 / 1.2, event.clientX - box.left, event.clientY - box.top);
  }, { passive: false });
  canvas.addEventListener("keydown", (event) => {
    const moves = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1], Home: [0, -1e6], End: [0, 1e6], PageUp: [-10, 0], PageDown: [10, 0] };
    if (moves[event.key]) {
      cursor = cursor.map((c, n) => Math.max(0, Math.min(shown[n].length - 1, c + moves[event.key][n])));
      into();
      tell();
    } else if (event.key === "+" || event.key === "=") zoom(1.25);
    else if (event.key === "-") zoom(0.8);
    else if (event.key === "0") whole();
    else if (event.key === "Enter" || event.key === " ") {
      pinned = !pinned;
      draw();
      tell();
    } else if (event.key === "Escape") {
      pinned = false;
      draw();
      tell();
    } else return;
    event.preventDefault();
  });
  for (const select of [mode, owner, service, hide, answerOf]) select.addEventListener("change", () => {
    filter();
    if (select === hide || hide.checked) whole();
  });
  order.addEventListener("change", () => {
    folded.clear();
    arrange();
    whole();
  });
  $("m-fold").addEventListener("click", () => {
    const many = [...(classes() || [])].filter(([, members]) => members.length > 1).map(([name]) => name);
    if (many.every((name) => folded.has(name))) folded.clear();
    else for (const name of many) folded.add(name);
    arrange();
    whole();
  });
  $("m-in").addEventListener("click", () => zoom(1.4));
  $("m-out").addEventListener("click", () => zoom(1 / 1.4));
  $("m-all").addEventListener("click", whole);
  document.querySelector("#matrix form").addEventListener("submit", (event) => {
    event.preventDefault();
    const asked = [$("m-from"), $("m-to")].map((input) => groups.findIndex((g) => g.group === input.value.trim()));
    const missing = asked.findIndex((n) => n < 0);
    if (missing >= 0) {
      const input = [$("m-from"), $("m-to")][missing];
      input.setCustomValidity("there is no such group");
      input.reportValidity();
      input.addEventListener("input", () => input.setCustomValidity(""), { once: true });
      return;
    }
    hide.checked = false;
    folded.clear();
    arrange();
    cursor = asked.map((group, n) => shown[n].findIndex((item) => axis[item].of[0] === group));
    pinned = true;
    if (cell < 12) cell = 16;
    into();
    tell();
    canvas.focus();
  });
  addEventListener("resize", draw);
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", draw);
  addEventListener("beforeprint", () => {
    document.documentElement.classList.add("paper");
    for (const details of document.querySelectorAll("details.words")) details.open = true;
    whole();
  });
  addEventListener("afterprint", () => {
    document.documentElement.classList.remove("paper");
    draw();
  });
  arrange();
  whole();

  // -- ways through the network ---------------------------------------------------------------

  if (data.paths && $("n-ask")) {
    const [from, to] = [$("n-from"), $("n-to")];
    for (const select of [from, to]) {
      select.append(make("option", "", { value: "" }));
      data.paths.segments.forEach((name, n) => select.append(make("option", name, { value: n })));
    }
    const way = () => {
      for (const element of document.querySelectorAll(".network .on")) element.classList.remove("on");
      const output = $("n-said");
      output.textContent = "";
      if (from.value === "" || to.value === "") return;
      const pair = data.paths.pairs.find((p) => p.from === Number(from.value) && p.to === Number(to.value));
      if (!pair.paths.length) output.textContent = "no path";
      else {
        const fares = Object.entries(pair.effects).map(([effect, n]) => `${n} ${effect}`).join(", ");
        output.textContent = `${pair.paths.map(([nodes]) => nodes.join(" → ")).join("; or ")}${pair.count > pair.paths.length ? `; and ${pair.count - pair.paths.length} more` : ""}. Flows: ${fares || "none"}.`;
      }
      for (const [nodes] of pair.paths) {
        nodes.forEach((node, n) => {
          for (const box of document.querySelectorAll(".network .box")) if (box.dataset.node === node) box.classList.add("on");
          if (n) {
            const ends2 = [nodes[n - 1], node];
            for (const path of document.querySelectorAll(".network .link")) if (ends2.includes(path.dataset.a) && ends2.includes(path.dataset.b)) path.classList.add("on");
          }
        });
      }
    };
    from.addEventListener("change", way);
    to.addEventListener("change", way);
  }

  // -- one box to find everything -------------------------------------------------------------

  const find = $("find"), list = $("found");
  let index = null, picked = -1;
  const indexed = () => {
    index = [];
    groups.forEach((group, n) => {
      index.push(["group", `${group.group} ${group.title} ${group.owner} ${group.tag} 0x${group.tag.toString(16)}`, `g${n}`, group.group, group.title]);
      for (const [endpoint, kind, addresses, why] of group.members) index.push(["endpoint", `${endpoint} ${addresses} ${kind} ${why}`, `g${n}`, endpoint, [`in ${group.group}`, addresses].filter(Boolean).join(" · ")]);
    });
    services.forEach((s, n) => index.push(["service", s.name, `m-service=${n}`, s.name, "where it is allowed, in the matrix"]));
    let made = 0;
    for (const element of document.querySelectorAll("[data-find]:not([data-group])")) {
      if (!element.id) element.id = `x${made++}`;
      const text = element.textContent.replace(/\s+/g, " ").trim();
      const name = element.querySelector(".name, strong, th")?.textContent || text.slice(0, 60);
      index.push([element.dataset.find, text, element.id, name, text.slice(name.length, name.length + 90)]);
    }
    if (!$("l0")) lines.line.forEach((_, n) => index.push(["line", `${said(n, "file")}:${said(n, "line")} ${said(n, "from")} ${said(n, "to")} ${said(n, "permission")} ${said(n, "owner")} ${said(n, "note")}`, "matrix", `${said(n, "file")}:${said(n, "line")}`, `${said(n, "from")} → ${said(n, "to")}, ${said(n, "permission")}`]));
    for (const entry of index) entry[1] = entry[1].toLowerCase();
  };
  const pick = (n) => {
    const options = [...list.children].filter((e) => e.getAttribute("role") === "option");
    if (!options.length) return;
    picked = (n + options.length) % options.length;
    options.forEach((option, k) => option.setAttribute("aria-selected", String(k === picked)));
    find.setAttribute("aria-activedescendant", options[picked].id);
    options[picked].scrollIntoView({ block: "nearest" });
  };
  const close = () => {
    list.hidden = true;
    find.setAttribute("aria-expanded", "false");
    find.removeAttribute("aria-activedescendant");
  };
  const lookUp = () => {
    const asked = find.value.trim().toLowerCase();
    list.replaceChildren();
    picked = -1;
    if (!asked) return close();
    if (!index) indexed();
    const parts = asked.split(/\s+/);
    const found = index.filter(([, text]) => parts.every((part) => text.includes(part)));
    const rank = (entry) => (entry[3].toLowerCase() === asked ? 0 : entry[3].toLowerCase().startsWith(asked) ? 1 : entry[3].toLowerCase().includes(asked) ? 2 : 3);
    found.map((entry, n) => [rank(entry), n, entry]).sort((a, b) => a[0] - b[0] || a[1] - b[1]).slice(0, 40).forEach(([, , [kind, , id, name, more]], n) => {
      const option = make("li", undefined, { role: "option", id: `found-${n}`, "aria-selected": "false" });
      const anchor = make("a", undefined, { href: `#${id}`, tabindex: "-1" });
      anchor.append(make("strong", name), ` `, make("small", `${kind} · ${more}`));
      option.append(anchor);
      list.append(option);
    });
    if (found.length > 40) list.append(make("li", `and ${(found.length - 40).toLocaleString("en")} more`, { role: "presentation" }));
    if (!found.length) list.append(make("li", "nothing here is called or says that", { role: "presentation" }));
    list.hidden = false;
    find.setAttribute("aria-expanded", "true");
    return undefined;
  };
  const follow = (anchor) => {
    close();
    const href = anchor.getAttribute("href");
    if (href.startsWith("#m-service=")) {
      service.value = href.split("=")[1];
      filter();
      goTo("#m-canvas");
    } else if (location.hash === href) goTo(href);
    else location.hash = href;
  };
  find.addEventListener("input", lookUp);
  find.addEventListener("focus", () => find.value && lookUp());
  find.addEventListener("keydown", (event) => {
    if (event.key === "ArrowDown") pick(picked + 1);
    else if (event.key === "ArrowUp") pick(picked - 1);
    else if (event.key === "Escape") close();
    else if (event.key === "Enter") {
      const anchor = list.querySelectorAll('[role="option"] a')[Math.max(0, picked)];
      if (anchor) follow(anchor);
    } else return;
    event.preventDefault();
  });
  list.addEventListener("click", (event) => {
    const anchor = event.target.closest("a");
    if (!anchor) return;
    event.preventDefault();
    follow(anchor);
  });
  document.addEventListener("click", (event) => {
    if (!event.target.closest(".find")) close();
  });
  document.addEventListener("keydown", (event) => {
    if (event.key === "/" && !event.target.closest("input, select, textarea")) {
      event.preventDefault();
      find.focus();
    }
  });
  document.documentElement.dataset.ready = "yes";
  goTo(location.hash);
})();
