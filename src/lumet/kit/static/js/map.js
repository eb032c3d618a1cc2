// A map of records: clusters of points over tiles, where the settings name some, else over
// a plain grid of degrees. Points are reached by Tab, and open by Enter.
const home = document.querySelector("[data-map]");

// Degrees between the lines of the grid, by the width of the map in degrees.
const STEPS = [90, 45, 30, 15, 10, 5, 2, 1, 0.5, 0.25, 0.1, 0.05, 0.02, 0.01, 0.005, 0.002, 0.001];

function drawGrid(map) {
  const lines = L.layerGroup().addTo(map);
  const color = getComputedStyle(document.documentElement).getPropertyValue("--line-2").trim();
  const draw = () => {
    lines.clearLayers();
    const box = map.getBounds();
    const width = Math.min(360, box.getEast() - box.getWest());
    const step = STEPS.find((each) => width / each >= 4) ?? STEPS.at(-1);
    const digits = Math.max(0, Math.ceil(-Math.log10(step)));
    const line = (from, to, label, at) => {
      L.polyline([from, to], { color, weight: 1, interactive: false }).addTo(lines);
      L.marker(at, { icon: L.divIcon({ className: "degrees", html: label, iconSize: null }), interactive: false, keyboard: false }).addTo(lines);
    };
    for (let y = Math.ceil(box.getSouth() / step) * step; y < Math.min(90, box.getNorth()); y += step) {
      line([y, box.getWest()], [y, box.getEast()], `${Math.abs(y).toFixed(digits)}° ${y < 0 ? "S" : "N"}`, [y, box.getWest()]);
    }
    for (let x = Math.ceil(box.getWest() / step) * step; x < box.getEast(); x += step) {
      line([box.getSouth(), x], [box.getNorth(), x], `${Math.abs(x).toFixed(digits)}° ${x < 0 ? "W" : "E"}`, [box.getNorth(), x]);
    }
  };
  map.on("moveend zoomend", draw);
  draw();
}

if (home && typeof L !== "undefined") {
  const points = JSON.parse(home.dataset.map);
  const map = L.map(home, { attributionControl: Boolean(home.dataset.attribution), maxZoom: 18, zoomSnap: 0.25, worldCopyJump: true, zoomAnimation: false, fadeAnimation: false, markerZoomAnimation: false });
  map.attributionControl?.setPrefix("");
  map.zoomControl.setPosition("bottomright"); // the names of the lines are above and on the left
  map.fitBounds(L.latLngBounds(points.map(([y, x]) => [y, x])).pad(0.08), { maxZoom: 12, animate: false });
  if (home.dataset.tiles) {
    L.tileLayer(home.dataset.tiles, { attribution: home.dataset.attribution }).addTo(map);
  } else {
    drawGrid(map);
  }
  const clusters = L.markerClusterGroup({
    animate: false,
    showCoverageOnHover: false,
    maxClusterRadius: 46,
    iconCreateFunction: (cluster) => L.divIcon({
      className: "cluster",
      html: `<span>${cluster.getChildCount()}</span>`,
      iconSize: [34, 34],
    }),
  });
  for (const [y, x, title, address, colour] of points) {
    const icon = L.divIcon({ className: `point ${colour}`, iconSize: [14, 14] });
    const marker = L.marker([y, x], { icon, title, alt: title });
    marker.bindTooltip(document.createTextNode(title));
    const open = () => { window.location.href = address; };
    if (address) {
      marker.on("click", open);
      marker.on("keypress", ({ originalEvent }) => { if (originalEvent.key === "Enter") open(); });
    }
    clusters.addLayer(marker);
  }
  map.addLayer(clusters);
  // what a group is, for who cannot see it
  const name = () => {
    for (const each of home.querySelectorAll(".cluster")) {
      each.setAttribute("role", "button");
      each.setAttribute("aria-label", home.dataset.several.replace("*", each.textContent));
    }
    for (const each of home.querySelectorAll(".point")) each.setAttribute("aria-label", each.title);
  };
  clusters.on("animationend", name);
  map.on("moveend zoomend layeradd", name);
  name();
}
