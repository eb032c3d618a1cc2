// The application's scripts, one module a feature. Every page works without them.
import "./js/menu.js";
import "./js/find.js";
import "./js/shortcuts.js";
import "./js/messages.js";
import "./js/list-grid.js";
import "./js/cell-edit.js";
import "./js/selection.js";
import "./js/tree.js";
import "./js/related.js";
import "./js/charts.js";
import "./js/record-form.js";
import "./js/filter-panel.js";
import "./js/focus-return.js";
