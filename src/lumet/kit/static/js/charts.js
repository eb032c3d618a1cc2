// Charts; the numbers are in a table below them as well.
for (const canvas of document.querySelectorAll("canvas[data-chart]")) {
  const token = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  const most = canvas.dataset.along ? undefined : 24;
  Chart.defaults.color = token("--ink-2");
  Chart.defaults.font.family = getComputedStyle(document.body).fontFamily;
  new Chart(canvas, {
    type: "bar",
    data: {
      labels: JSON.parse(canvas.dataset.labels).slice(0, most),
      datasets: [{
        data: JSON.parse(canvas.dataset.chart).slice(0, most),
        backgroundColor: token("--sea"),
      }],
    },
    options: {
      animation: false,
      maintainAspectRatio: false,
      plugins: { legend: { display: false } },
      scales: { x: { grid: { display: false } }, y: { grid: { color: token("--line") }, beginAtZero: true } },
    },
  });
}
