"use strict";
const AT_ONCE = 200;

function node(name, text, className) {
  const made = document.createElement(name);
  if (text !== undefined) made.textContent = text;
  if (className) made.className = className;
  return made;
}

function whenEndShows(more) {
  new IntersectionObserver(seen => { if (seen[0].isIntersecting) more(); }, {rootMargin: "1200px"}).observe(document.getElementById("end"));
}
