// One Tab stop for many: arrow keys move within, and Tab leads out.
export function rove(items, present, { onMove } = {}) {
  const all = () => items().filter((each) => !each.closest("[hidden]") && each.offsetParent !== null);
  const give = (item) => {
    for (const each of items()) each.tabIndex = each === item ? 0 : -1;
  };
  const move = (item) => {
    give(item);
    item.focus();
    onMove?.(item);
  };
  give(present ?? items()[0]);
  return {
    give,
    move,
    handle(event) {
      const shown = all();
      const place = shown.indexOf(event.target);
      if (place < 0 || event.altKey || event.ctrlKey || event.metaKey) return;
      const next = {
        ArrowDown: shown[place + 1], ArrowUp: shown[place - 1],
        Home: shown[0], End: shown[shown.length - 1],
      }[event.key];
      if (!(event.key in { ArrowDown: 1, ArrowUp: 1, Home: 1, End: 1 })) return;
      event.preventDefault();
      if (next) move(next);
    },
  };
}
