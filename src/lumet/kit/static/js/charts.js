// Charts; the numbers are in a table beside them as well. Each point leads to its rows.
const token = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const parsed = (text) => JSON.parse(text || "[]");
const PARTS = 8; // colours of shares and of parts
const MOST_BARS = 24; // more are not told apart
const MANY_POINTS = 24; // more have no dots

const colourOf = (given, n) => token(given ? `--${given}` : `--part-${(n % PARTS) + 1}`);

// What is drawn: sets of amounts, each with the addresses of its points.
function setsOf(canvas, kind, most) {
  const cut = (list) => list.slice(0, most);
  const { series, second } = canvas.dataset;
  if (series) {
    return parsed(series).map((each, n) => ({
      label: each.name, data: cut(each.amounts), addresses: each.addresses, color: colourOf(each.colour, n), stack: "parts",
    }));
  }
  const first = {
    label: canvas.dataset.name ?? "", data: cut(parsed(canvas.dataset.chart)),
    addresses: parsed(canvas.dataset.addresses), texts: parsed(canvas.dataset.texts), color: token("--sea"),
  };
  if (kind === "shares") {
    const given = parsed(canvas.dataset.colours);
    first.color = first.data.map((_value, n) => colourOf(given[n], n));
  }
  if (!second) return [first];
  return [first, {
    label: canvas.dataset.secondName, data: cut(parsed(second)), addresses: first.addresses, color: token("--part-5"),
    type: "line", yAxisID: "second",
  }];
}

// A point that no line leads to: months without an average are left out.
const isAlone = (data, n) => (data[n - 1] ?? null) === null && (data[n + 1] ?? null) === null;

function draw(canvas) {
  const kind = canvas.dataset.kind || "bars";
  const isRound = kind === "shares";
  const most = kind === "line" || canvas.dataset.along ? undefined : MOST_BARS;
  const sets = setsOf(canvas, kind, most);
  const isStacked = Boolean(canvas.dataset.series);
  Chart.defaults.color = token("--ink-2");
  Chart.defaults.font.family = getComputedStyle(document.body).fontFamily;
  const axis = { border: { display: false }, beginAtZero: true, stacked: isStacked && kind !== "line", ticks: { maxTicksLimit: 6 } };
  new Chart(canvas, {
    type: { line: "line", shares: "doughnut" }[kind] ?? "bar",
    data: {
      labels: parsed(canvas.dataset.labels).slice(0, most),
      datasets: sets.map((each) => ({
        label: each.label,
        data: each.data,
        type: each.type,
        yAxisID: isRound ? undefined : each.yAxisID ?? "y",
        stack: each.stack,
        backgroundColor: each.color,
        borderColor: isRound ? token("--sheet") : each.color,
        borderWidth: isRound || kind === "line" || each.type ? 2 : 0,
        pointRadius: each.data.map((_value, n) => (each.data.length <= MANY_POINTS || isAlone(each.data, n) ? 2.5 : 0)),
        pointHitRadius: 8,
        tension: 0,
      })),
    },
    options: {
      animation: false,
      maintainAspectRatio: false,
      cutout: "58%",
      layout: { padding: isRound ? 2 : { right: 6 } },
      interaction: { mode: sets.length > 1 || isRound ? "nearest" : "index", intersect: isRound },
      onClick: (_event, [hit]) => {
        const address = hit && sets[hit.datasetIndex].addresses?.[hit.index];
        if (address) window.location.href = address;
      },
      onHover: (event, [hit]) => {
        event.native.target.classList.toggle("leads", Boolean(hit && sets[hit.datasetIndex].addresses?.[hit.index]));
      },
      plugins: {
        legend: { display: sets.length > 1 || (isRound && Boolean(canvas.closest(".chart"))), position: isRound ? "right" : "top", align: "start", labels: { boxWidth: 12 } },
        tooltip: sets[0].texts?.length ? { callbacks: { label: (at) => sets[0].texts[at.dataIndex] } } : {},
      },
      scales: isRound ? {} : {
        x: { grid: { display: false }, stacked: axis.stacked, ticks: { maxRotation: 0, autoSkipPadding: 14 } },
        y: { ...axis, grid: { color: token("--line") } },
        ...(sets.some((each) => each.yAxisID) ? { second: { ...axis, position: "right", grid: { display: false } } } : {}),
      },
    },
  });
}

export function drawCharts(within) {
  if (typeof Chart === "undefined") return;
  for (const canvas of within.querySelectorAll("canvas[data-chart]")) draw(canvas);
}

drawCharts(document);

for (const form of document.querySelectorAll("form[data-at-once]")) {
  form.querySelector("button").hidden = true;
  form.addEventListener("change", () => form.requestSubmit());
}
