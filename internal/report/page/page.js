"use strict";
(function () {
  const data = JSON.parse(document.getElementById("data").textContent);
  const $ = (id) => document.getElementById(id);
  const root = document.documentElement;
  const css = (name) => getComputedStyle(root).getPropertyValue(name).trim();
  const proven = data.verdicts.length - 1;
  let redraw = [];

  // A shape for each verdict, so that none is told by its colour alone. Each is drawn into a
  // square from (x, y) with side s.
  const shapes = [
    (c, x, y, s) => star(c, x, y, s, 5),
    (c, x, y, s) => { c.rect(x, y + s * 0.38, s, s * 0.24); },
    (c, x, y, s) => cross(c, x, y, s),
    (c, x, y, s) => poly(c, x, y, s, [[0, 0], [1, 0], [0.5, 1]]),
    (c, x, y, s) => poly(c, x, y, s, [[0.5, 0], [1, 1], [0, 1]]),
    (c, x, y, s) => poly(c, x, y, s, [[0.5, 0], [1, 0.5], [0.5, 1], [0, 0.5]]),
    (c, x, y, s) => poly(c, x, y, s, [[0, 0], [1, 0.5], [0, 1]]),
    (c, x, y, s) => { c.rect(x, y, s * 0.42, s); c.rect(x + s * 0.58, y, s * 0.42, s); },
    (c, x, y, s) => poly(c, x, y, s, [[0, 0], [1, 0], [0.55, 0.5], [1, 1], [0, 1], [0.45, 0.5]]),
    (c, x, y, s) => { frame(c, x, y, s); },
    (c, x, y, s) => { c.rect(x + s * 0.38, y + s * 0.38, s * 0.24, s * 0.24); },
    (c, x, y, s) => { ring(c, x, y, s); },
    (c, x, y, s) => { c.moveTo(x + s * 0.8, y + s / 2); c.arc(x + s / 2, y + s / 2, s * 0.3, 0, 7); },
  ];
  function poly(c, x, y, s, list) {
    list.forEach((p, i) => (i ? c.lineTo(x + p[0] * s, y + p[1] * s) : c.moveTo(x + p[0] * s, y + p[1] * s)));
    c.closePath();
  }
  function cross(c, x, y, s) {
    poly(c, x, y, s, [[0.2, 0], [0.5, 0.3], [0.8, 0], [1, 0.2], [0.7, 0.5], [1, 0.8], [0.8, 1], [0.5, 0.7], [0.2, 1], [0, 0.8], [0.3, 0.5], [0, 0.2]]);
  }
  function star(c, x, y, s, n) {
    const list = [];
    for (let i = 0; i < 2 * n; i++) {
      const r = i % 2 ? 0.22 : 0.52, a = (i * Math.PI) / n - Math.PI / 2;
      list.push([0.5 + r * Math.cos(a), 0.5 + r * Math.sin(a)]);
    }
    poly(c, x, y, s, list);
  }
  function frame(c, x, y, s) {
    c.rect(x, y, s, s * 0.2); c.rect(x, y + s * 0.8, s, s * 0.2);
    c.rect(x, y, s * 0.2, s); c.rect(x + s * 0.8, y, s * 0.2, s);
  }
  function ring(c, x, y, s) {
    c.moveTo(x + s, y + s / 2); c.arc(x + s / 2, y + s / 2, s / 2, 0, 2 * Math.PI);
    c.moveTo(x + s * 0.76, y + s / 2); c.arc(x + s / 2, y + s / 2, s * 0.26, 2 * Math.PI, 0, true);
  }

  // The same shapes as SVG paths, for marks in text.
  const recorder = () => {
    let d = "";
    return {
      rect: (x, y, w, h) => { d += `M${x} ${y}h${w}v${h}h${-w}z`; },
      moveTo: (x, y) => { d += `M${x} ${y}`; }, lineTo: (x, y) => { d += `L${x} ${y}`; }, closePath: () => { d += "z"; },
      arc: (x, y, r) => { d += `M${x - r} ${y}a${r} ${r} 0 1 0 ${2 * r} 0a${r} ${r} 0 1 0 ${-2 * r} 0`; },
      path: () => d,
    };
  };
  function mark(svg) {
    const r = recorder();
    shapes[Number(svg.dataset.shape)](r, 1, 1, 12);
    const p = document.createElementNS("http://www.w3.org/2000/svg", "path");
    p.setAttribute("d", r.path());
    p.setAttribute("fill", "currentColor");
    p.setAttribute("fill-rule", "evenodd");
    svg.append(p);
  }
  document.querySelectorAll("svg.mark").forEach(mark);

  // Theme
  let theme = matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light";
  if (location.hash === "#dark") theme = "dark";
  root.dataset.theme = theme;
  $("theme").addEventListener("click", () => {
    theme = theme === "dark" ? "light" : "dark";
    root.dataset.theme = theme;
    redraw.forEach((f) => f());
  });

  // Messages
  const findings = [...document.querySelectorAll(".finding")];
  function filter() {
    const v = $("byverdict").value, d = $("bydevice").value.trim();
    let n = 0;
    for (const f of findings) {
      f.hidden = (v !== "" && f.dataset.verdict !== v) || (d !== "" && !f.dataset.device.includes(d));
      if (!f.hidden) n++;
    }
    $("shown").textContent = n === findings.length ? `${n} shown` : n ? `${n} of ${findings.length} shown` : "none on this page; runcrowd messages lists all";
  }
  function look(verdict, device) {
    if (!findings.length) return;
    $("byverdict").value = verdict; $("bydevice").value = device;
    filter();
  }
  if (findings.length) {
    $("byverdict").value = ""; $("bydevice").value = ""; // a browser may bring back what stood there
    $("byverdict").addEventListener("change", filter);
    $("bydevice").addEventListener("input", filter);
    filter();
  }
  document.querySelectorAll("a[data-verdict]").forEach((a) => a.addEventListener("click", () => look(a.dataset.verdict === "proven" ? "" : a.dataset.verdict, "")));
  document.querySelectorAll("a[data-device]").forEach((a) => a.addEventListener("click", () => look("", a.dataset.device)));

  // Fleet
  if ($("field") && data.devices.length) {
    const box = $("field"), canvas = box.querySelector("canvas"), n = data.devices.length;
    const side = n > 20000 ? 5 : n > 3000 ? 8 : n > 400 ? 12 : 18, gap = side > 8 ? 3 : 1;
    let across = 1, at = -1;
    const draw = () => {
      const width = box.clientWidth - 10, ratio = devicePixelRatio || 1;
      across = Math.max(1, Math.floor(width / (side + gap)));
      const high = Math.ceil(n / across) * (side + gap);
      canvas.style.width = width + "px"; canvas.style.height = high + "px";
      canvas.width = width * ratio; canvas.height = high * ratio;
      const c = canvas.getContext("2d");
      c.scale(ratio, ratio);
      for (let v = 0; v < shapes.length; v++) { // one colour at a time: that is fast
        c.fillStyle = css("--v" + v);
        c.beginPath();
        for (let i = 0; i < n; i++) {
          if (data.worst[i] === v) shapes[v](c, (i % across) * (side + gap), Math.floor(i / across) * (side + gap), side);
        }
        c.fill("evenodd");
      }
      place();
    };
    const place = () => {
      const p = $("cursor");
      p.hidden = at < 0;
      p.style.width = p.style.height = side + 4 + "px";
      p.style.left = canvas.offsetLeft + (at % across) * (side + gap) - 2 + "px";
      p.style.top = canvas.offsetTop + Math.floor(at / across) * (side + gap) - 2 + "px";
    };
    const tell = (i) => {
      at = i;
      const what = data.bad[i] ? `${data.bad[i]} of ${data.due[i]} messages not proven, the worst is ${data.verdicts[data.worst[i]]}` : `all ${data.due[i]} messages proven`;
      $("cell").textContent = `${data.devices[i]}: ${what}`;
      place();
      const y = Math.floor(i / across) * (side + gap);
      if (y < box.scrollTop) box.scrollTop = y;
      if (y + side > box.scrollTop + box.clientHeight - 10) box.scrollTop = y + side - box.clientHeight + 14;
    };
    box.addEventListener("keydown", (e) => {
      const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: across, ArrowUp: -across }[e.key];
      if (step) { tell(Math.min(n - 1, Math.max(0, at + step))); e.preventDefault(); }
      if (e.key === "Home") { tell(0); e.preventDefault(); }
      if (e.key === "End") { tell(n - 1); e.preventDefault(); }
      if (e.key === "Enter" && at >= 0) { look("", data.devices[at]); location.hash = "messages"; }
    });
    const hit = (e) => {
      const r = canvas.getBoundingClientRect();
      const i = Math.floor((e.clientY - r.top) / (side + gap)) * across + Math.floor((e.clientX - r.left) / (side + gap));
      return i >= 0 && i < n && e.clientX - r.left < across * (side + gap) ? i : -1;
    };
    canvas.addEventListener("mousemove", (e) => { const i = hit(e); if (i >= 0 && i !== at) tell(i); });
    canvas.addEventListener("click", (e) => { const i = hit(e); if (i >= 0) { tell(i); look("", data.devices[i]); } });
    for (let v = 0; v < shapes.length; v++) {
      const k = data.worst.filter((w) => w === v).length;
      if (!k) continue;
      const li = document.createElement("li"), svg = document.createElementNS("http://www.w3.org/2000/svg", "svg");
      svg.setAttribute("width", 14); svg.setAttribute("height", 14); svg.setAttribute("class", "mark v" + v); svg.setAttribute("aria-hidden", "true"); svg.dataset.shape = v;
      mark(svg);
      li.append(svg, `${data.verdicts[v]}: ${k} ${k === 1 ? "device" : "devices"}`);
      $("legend").append(li);
    }
    redraw.push(draw);
    draw();
  }

  // Plots
  const hues = ["--soft", "--link", "--good", "--bad", "--v0", "--v4", "--v7", "--v6"];
  const axis = () => ({ stroke: css("--fg"), grid: { stroke: css("--line"), width: 1 }, ticks: { stroke: css("--line") } });
  const clock = (t) => new Date(t * 1e3).toISOString().slice(11, 19);
  const times = () => ({ ...axis(), space: 80, values: (u, list, i, space, step) => list.map((t) => (step < 1 ? new Date(t * 1e3).toISOString().slice(11, 21) : clock(t))) });
  const time = { label: "time (UTC)", value: (u, t) => (t === null ? "" : new Date(t * 1e3).toISOString().slice(0, 21).replace("T", " ")) };
  const plots = [];
  function plot(box, make) {
    const at = $(box);
    const show = () => {
      at.textContent = "";
      const o = make();
      o.opts.width = Math.max(240, at.clientWidth - 12);
      o.opts.height = o.opts.height || 260;
      at.append(...[new uPlot(o.opts, o.data).root]);
    };
    plots.push(show); redraw.push(show);
    show();
  }
  if ($("rates") && data.rates.length && data.rates[0].length) {
    const xs = data.rates[0].map((_, i) => data.begin / 1000 + (i + 0.5) * data.step);
    // Each event, and each time in which a witness was deaf, has a lane below the plot, on its
    // axis: what is zoomed there is zoomed here.
    const names = new Map();
    for (const b of data.bands) names.set(b.name, [...(names.get(b.name) || []), b]);
    const seconds = (t) => `${t.toFixed(1)} s`;
    const lanes = [...names].map(([name, list]) => {
      const li = document.createElement("li"), track = document.createElement("span"), text = document.createElement("span");
      track.className = "track"; text.className = "name";
      const when = list.slice(0, 6).map((b) => (b.to > b.from ? `${b.from.toFixed(1)} to ${seconds(b.to)}` : `at ${seconds(b.from)}`));
      text.textContent = `${name} \u00b7 ${when.join(", ")}${list.length > 6 ? `, and ${list.length - 6} more` : ""}`;
      const bars = list.map((b) => {
        const i = document.createElement("i");
        i.className = b.sort;
        track.append(i);
        return [b, i];
      });
      li.append(text, track);
      $("bands").append(li);
      return bars;
    }).flat();
    const place = (u) => {
      const from = u.scales.x.min - data.begin / 1000, long = u.scales.x.max - u.scales.x.min;
      $("bands").style.marginLeft = `${u.bbox.left / devicePixelRatio + 6}px`;
      $("bands").style.width = `${u.bbox.width / devicePixelRatio}px`;
      for (const [b, i] of lanes) {
        const left = Math.max(0, (b.from - from) / long), right = Math.min(1, (b.to - from) / long);
        i.hidden = left > 1 || right < 0;
        i.style.left = `${100 * left}%`;
        i.style.width = `${100 * Math.max(0, right - left)}%`;
      }
    };
    plot("rates", () => ({
      data: [xs, ...data.rates.map((r) => r.map((n) => n / data.step))],
      opts: {
        tzDate: (t) => uPlot.tzDate(new Date(t * 1e3), "Etc/UTC"),
        axes: [times(), { ...axis(), label: "messages a second", labelSize: 22, size: 74 }],
        series: [time, ...data.names.map((name, i) => ({ label: name, stroke: css(hues[i % hues.length]), width: 1.6, dash: i === 0 ? [6, 4] : undefined, points: { show: data.rates[0].length < 3 } }))],
        hooks: { draw: [place] },
      },
    }));
    if (names.size) $("bandtext").textContent = "Below: what the plan did, and when a witness could not listen.";
  }
  if ($("which") && data.delays.length) {
    for (const d of data.delays) $("which").add(new Option(d.name === "lag" ? "sent (from due: the lag)" : d.name, d.name));
    const best = data.delays.findIndex((d) => d.name === "stored");
    $("which").selectedIndex = best < 0 ? 0 : best;
    const chosen = () => data.delays.find((d) => d.name === $("which").value);
    const xs = chosen().p[0].map((_, i) => data.begin / 1000 + (i + 0.5) * data.step);
    plot("percentiles", () => ({
      data: [xs, ...chosen().p],
      opts: {
        tzDate: (t) => uPlot.tzDate(new Date(t * 1e3), "Etc/UTC"),
        axes: [times(), { ...axis(), label: "ms", labelSize: 20, size: 60 }],
        series: [time, ...["p50", "p90", "p99"].map((label, i) => ({ label, stroke: css(["--good", "--v4", "--bad"][i]), width: 1.6, spanGaps: true, points: { show: xs.length < 3 } }))],
      },
    }));
    plot("distribution", () => {
      const d = chosen();
      return {
        data: [d.up_to.map((x) => Math.max(x, 0.001)), d.count],
        opts: {
          scales: { x: { time: false, distr: 3 } },
          axes: [{ ...axis(), label: "ms, at most", labelSize: 20, size: 40, values: (u, v) => v.map((x) => (x === null ? "" : x >= 1 ? String(x) : x.toPrecision(1))) }, { ...axis(), size: 60 }],
          series: [{ label: "up to (ms)" }, { label: "messages", stroke: css("--link"), fill: css("--link") + "55", paths: uPlot.paths.bars({ size: [0.8, 24] }), points: { show: false } }],
        },
      };
    });
    $("which").addEventListener("change", () => plots.forEach((f) => f()));
  }
  let wait = 0;
  addEventListener("resize", () => { clearTimeout(wait); wait = setTimeout(() => redraw.forEach((f) => f()), 120); });
})();
