"use strict";
const run = JSON.parse(document.getElementById("run").textContent);

/* ---- the table of all jobs ---- */
const only = document.getElementById("only");
if (only) {
  only.addEventListener("input", () => {
    const wanted = only.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const row of document.querySelectorAll(".all tbody tr")) {
      const text = row.textContent.toLowerCase();
      row.hidden = !wanted.every((word) => text.includes(word));
    }
  });
}

/* ---- the time line ---- */
const canvas = document.querySelector("canvas");
if (canvas) {
  const LANE = 30, BAR = 20, AXIS = 22, SIDE = 1, HEAD = 18, QUEUE = 44;
  const jobs = run.steps.filter((job) => job.ending !== "held");
  jobs.sort((a, b) => a.slot - b.slot || a.began - b.began);
  // A run on this machine alone has a row for each job that could run at once; else each machine has a lane, with as many
  // rows as it ran jobs at once.
  const is_apart = jobs.some((job) => job.node);
  const rows = [], heads = [];
  if (is_apart) apart(); else together();
  const queue = waiting();
  const body = rows.length ? last(rows).top + LANE : AXIS;
  const way = new Map(run.longest.map((link, at) => [link.step, at]));
  const end = Math.max(run.seconds, ...rows.map((lane) => last(lane).began + last(lane).seconds), 1e-4);
  const told = document.getElementById("told");
  const context = canvas.getContext("2d");
  let from = 0, span = end, chosen = null, width = 0;

  function last(list) { return list[list.length - 1]; }

  function add(lane, top) {
    lane.top = top;
    lane.forEach((job) => { job.row = rows.length; });
    rows.push(lane);
  }

  function together() {
    const lanes = [];
    for (const job of jobs) (lanes[job.slot] ??= []).push(job);
    lanes.filter(Boolean).forEach((lane, row) => add(lane, AXIS + row * LANE));
  }

  function apart() {
    const nodes = new Map();
    for (const job of jobs) {
      const name = job.node ? `${job.on ? job.on + " " : ""}${job.node}` : "this machine";
      if (!nodes.has(name)) nodes.set(name, []);
      nodes.get(name).push(job);
    }
    const names = [...nodes.keys()].sort((a, b) => (a !== "this machine") - (b !== "this machine") || a.localeCompare(b));
    let top = AXIS;
    for (const name of names) {
      heads.push({ name, top });
      top += HEAD;
      const lanes = [];
      for (const job of nodes.get(name).sort((a, b) => a.began - b.began)) {
        // A little room for times that are rounded.
        const free = lanes.find((lane) => last(lane).began + last(lane).seconds <= job.began + 2e-4);
        if (free) free.push(job); else lanes.push([job]);
      }
      for (const lane of lanes) {
        add(lane, top);
        top += LANE;
      }
    }
  }

  /* How many jobs waited for a worker, from when on. */
  function waiting() {
    const changes = [];
    for (const job of jobs.filter((job) => job.queued > 0)) {
      changes.push([job.began - job.queued, 1], [job.began, -1]);
    }
    changes.sort((a, b) => a[0] - b[0]);
    let count = 0;
    return changes.map(([at, by]) => [at, count += by]);
  }
  function colour(name) { return getComputedStyle(document.documentElement).getPropertyValue(name).trim(); }
  function x(time) { return SIDE + (time - from) / span * (width - 2 * SIDE); }
  function time(at) { return from + (at - SIDE) / (width - 2 * SIDE) * span; }
  function y(row) { return rows[row].top + (LANE - BAR) / 2; }

  function seconds(value) {
    if (value < 0.01) return `${Math.round(value * 1000)}ms`;
    if (value < 60) return `${value.toFixed(2)}s`;
    return `${Math.floor(value / 60)}m ${String(Math.round(value % 60)).padStart(2, "0")}s`;
  }

  function step() {
    const rough = span / Math.max(2, width / 110);
    const power = 10 ** Math.floor(Math.log10(rough));
    return [1, 2, 5, 10].map((factor) => factor * power).find((value) => value >= rough);
  }

  function draw() {
    const ratio = window.devicePixelRatio || 1;
    width = canvas.clientWidth;
    const height = body + 4 + (queue.length ? HEAD + QUEUE : 0);
    canvas.style.height = `${height}px`;
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
    context.setTransform(ratio, 0, 0, ratio, 0, 0);
    context.clearRect(0, 0, width, height);
    context.font = "11px ui-monospace, 'DejaVu Sans Mono', monospace";
    context.textBaseline = "middle";
    const ink = colour("--ink"), faint = colour("--faint"), line = colour("--line");
    const gap = step();
    for (let at = Math.ceil(from / gap) * gap; at <= from + span * 1.0001; at += gap) {
      context.strokeStyle = line;
      context.lineWidth = 1;
      context.beginPath();
      context.moveTo(x(at), AXIS - 6);
      context.lineTo(x(at), height);
      context.stroke();
      context.fillStyle = faint;
      const label = gap < 1 ? `${at.toFixed(Math.min(4, Math.ceil(-Math.log10(gap))))}s` : seconds(at);
      const wide = context.measureText(label).width;
      context.fillText(label, Math.min(x(at) + 3, width - wide - 2), 8);
    }
    const look = {
      made: [colour("--made"), colour("--made-soft")],
      same: [colour("--same"), "transparent"],
      restored: [colour("--same"), "transparent"],
      failed: [colour("--failed"), colour("--failed-soft")],
      stopped: [colour("--held"), "transparent"],
    };
    const gold = colour("--way");
    for (const head of heads) {
      context.fillStyle = faint;
      context.fillText(head.name, 4, head.top + HEAD / 2 + 2);
      context.fillStyle = line;
      context.fillRect(0, head.top, width, 1);
    }
    if (queue.length) area(line, faint, height);
    for (const lane of rows) {
      let drawn = -1;
      for (const job of lane) {
        const left = x(job.began), right = Math.max(x(job.began + job.seconds), left + 1.5);
        if (right < 0 || left > width) continue;
        // Of many that are narrower than a dot one is drawn.
        if (right - left < 2 && right <= drawn && job !== chosen && !way.has(job.step)) continue;
        drawn = right;
        bar(job, left, right, look[job.ending] ?? look.made, ink, gold);
      }
    }
    thread(gold);
  }

  function bar(job, left, right, [edge, fill], ink, gold) {
    const top = y(job.row), wide = right - left;
    const shown = Math.max(left, 0), until = Math.min(right, width);
    if (job.ending === "restored") return fetched(job, left, top, wide, edge, gold);
    context.fillStyle = fill;
    context.fillRect(left, top, wide, BAR);
    if (job.ending === "failed") hatch(left, top, wide, edge);
    context.strokeStyle = edge;
    context.lineWidth = job === chosen ? 2.5 : 1;
    context.setLineDash(job.ending === "same" || job.ending === "stopped" ? [4, 2] : []);
    if (wide > 3) context.strokeRect(left + 0.5, top + 0.5, wide - 1, BAR - 1);
    else { context.fillStyle = edge; context.fillRect(left, top, wide, BAR); }
    context.setLineDash([]);
    if (way.has(job.step)) {
      context.fillStyle = gold;
      context.fillRect(left, top + BAR, wide, 3);
    }
    const room = Math.floor((until - shown - 8) / 6.7);
    if (room >= 4) {
      const name = job.step.length > room ? `…${job.step.slice(1 - room)}` : job.step;
      context.fillStyle = ink;
      context.fillText(name, shown + 5, top + BAR / 2 + 1);
    }
  }

  /* Those that wait, as high as they are many. */
  function area(fill, edge, height) {
    const most = Math.max(...queue.map(([, count]) => count));
    const low = height - 4, high = (count) => low - count / most * (QUEUE - 8);
    context.fillStyle = edge;
    context.fillText(`waits for a worker: up to ${most} at once`, 4, body + HEAD / 2 + 2);
    context.fillStyle = fill;
    context.fillRect(0, body, width, 1);
    context.beginPath();
    context.moveTo(x(queue[0][0]), low);
    let before = 0;
    for (const [at, count] of queue) {
      context.lineTo(x(at), high(before));
      context.lineTo(x(at), high(count));
      before = count;
    }
    context.lineTo(x(last(queue)[0]), low);
    context.fill();
    context.strokeStyle = edge;
    context.lineWidth = 1;
    context.stroke();
  }

  /* What was fetched and not made is a spool: two rims and the thread between them, and as narrow as it was quick. */
  function fetched(job, left, top, wide, edge, gold) {
    const rim = Math.min(4, wide / 2), middle = top + BAR / 2;
    context.fillStyle = edge;
    context.fillRect(left, top, rim, BAR);
    context.fillRect(left + wide - rim, top, rim, BAR);
    context.fillRect(left, middle - (job === chosen ? 2 : 1), wide, job === chosen ? 4 : 2);
    if (way.has(job.step)) {
      context.fillStyle = gold;
      context.fillRect(left, top + BAR, wide, 3);
    }
  }

  function hatch(left, top, wide, edge) {
    context.save();
    context.beginPath();
    context.rect(left, top, wide, BAR);
    context.clip();
    context.strokeStyle = edge;
    context.lineWidth = 1;
    context.globalAlpha = 0.35;
    context.beginPath();
    for (let at = left - BAR; at < left + wide; at += 6) {
      context.moveTo(at, top + BAR);
      context.lineTo(at + BAR, top);
    }
    context.stroke();
    context.restore();
  }

  /* A thread from each job of the longest way to the next. */
  function thread(gold) {
    const chain = jobs.filter((job) => way.has(job.step)).sort((a, b) => way.get(a.step) - way.get(b.step));
    context.strokeStyle = gold;
    context.lineWidth = 1.5;
    for (let at = 1; at < chain.length; at += 1) {
      const before = chain[at - 1], next = chain[at];
      const start = x(before.began + before.seconds), stop = x(next.began);
      context.beginPath();
      // Between the rows as far as it goes, so that it crosses no bar on its way.
      const along = y(before.row) + BAR + 1.5, low = y(next.row) + BAR + 1.5;
      const turn = Math.max(start, stop - 12);
      context.moveTo(start, along);
      context.lineTo(turn, along);
      context.bezierCurveTo(turn + 8, along, stop - 8, low, stop, low);
      context.stroke();
    }
  }

  function element(name, text) {
    const made = document.createElement(name);
    made.textContent = text;
    return made;
  }

  function choose(job) {
    chosen = job;
    told.replaceChildren();
    if (job) {
      told.append(element("b", job.step), ` ${job.ending}, took ${seconds(job.seconds)}`);
      if (job.before != null) told.append(`, before ${seconds(job.before)}`);
      told.append(`, began at ${seconds(job.began)}`);
      if (job.after) told.append(`, after ${job.after}`);
      if (job.from) told.append(`, from the ${job.from.shared ? "shared" : "local"} store, where it took ${seconds(job.from.took / 1e9)} to make (${job.from.made_in})`);
      if (job.node) told.append(`, on ${job.node}`);
      if (job.queued >= 0.01) told.append(`, waited ${seconds(job.queued)} for a worker`);
      if (job.waited >= 0.01) told.append(`, waited ${seconds(job.waited)} for a free place`);
      if (job.exit && job.ending === "failed") told.append(`, ${job.exit}`);
      told.append(document.createElement("br"));
      told.append(element("small", `${job.reasons.join("; ") || "a task, run when asked for"} · ${job.by} · ${job.place}`));
    }
    draw();
  }

  function keep() {
    span = Math.min(Math.max(span, end / 1e6, 1e-6), end);
    from = Math.min(Math.max(from, 0), end - span);
  }

  function zoom(factor, around) {
    const at = around ?? from + span / 2;
    const share = (at - from) / span;
    span *= factor;
    span = Math.min(Math.max(span, 1e-6), end);
    from = at - share * span;
    keep();
    draw();
  }

  function under(event) {
    const box = canvas.getBoundingClientRect();
    const at = time(event.clientX - box.left);
    const height = event.clientY - box.top;
    const row = rows.findIndex((lane) => lane.top <= height && height < lane.top + LANE);
    const slack = 3 / width * span;
    const hits = (rows[row] ?? []).filter((job) => job.began - slack <= at && at <= job.began + job.seconds + slack);
    return hits[0] ?? null;
  }

  function show(job) {
    const margin = span * 0.05;
    if (job.began < from || job.began + job.seconds > from + span) {
      if (job.seconds > span) span = Math.min(end, job.seconds * 1.2);
      from = job.began + job.seconds > from + span ? job.began + job.seconds - span + margin : job.began - margin;
      keep();
    }
    choose(job);
  }

  function move(key) {
    if (!chosen) return show(jobs[0]);
    const lane = rows[chosen.row], at = lane.indexOf(chosen);
    if (key === "ArrowRight" && at + 1 < lane.length) show(lane[at + 1]);
    if (key === "ArrowLeft" && at > 0) show(lane[at - 1]);
    const row = chosen.row + (key === "ArrowDown" ? 1 : key === "ArrowUp" ? -1 : 0);
    if (row !== chosen.row && rows[row]) {
      const far = (job) => Math.abs(job.began - chosen.began);
      show(rows[row].reduce((best, job) => (far(job) < far(best) ? job : best)));
    }
  }

  const zooms = {
    in: () => zoom(0.6, chosen && chosen.began + chosen.seconds / 2),
    out: () => zoom(1 / 0.6, chosen && chosen.began + chosen.seconds / 2),
    all: () => { from = 0; span = end; draw(); },
  };
  for (const button of document.querySelectorAll("[data-zoom]")) {
    button.addEventListener("click", () => zooms[button.dataset.zoom]());
  }
  canvas.addEventListener("keydown", (event) => {
    if (event.key.startsWith("Arrow")) move(event.key);
    else if (event.key === "+" || event.key === "=") zooms.in();
    else if (event.key === "-") zooms.out();
    else if (event.key === "0") zooms.all();
    else return;
    event.preventDefault();
  });
  canvas.addEventListener("wheel", (event) => {
    if (!event.ctrlKey) return;
    event.preventDefault();
    zoom(event.deltaY > 0 ? 1.25 : 0.8, time(event.clientX - canvas.getBoundingClientRect().left));
  }, { passive: false });
  let held = null;
  canvas.addEventListener("pointerdown", (event) => {
    held = { at: event.clientX, from };
    canvas.setPointerCapture(event.pointerId);
    choose(under(event));
  });
  canvas.addEventListener("pointermove", (event) => {
    if (held) {
      from = held.from - (event.clientX - held.at) / width * span;
      keep();
      draw();
    } else {
      const job = under(event);
      if (job && job !== chosen) choose(job);
    }
  });
  canvas.addEventListener("pointerup", () => { held = null; });
  new ResizeObserver(draw).observe(canvas);
  for (const query of ["(prefers-color-scheme: dark)", "print"]) {
    window.matchMedia(query).addEventListener("change", draw);
  }
  draw();
}
