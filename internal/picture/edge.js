// What reaches beyond the edge of a phone of a width: the innermost such elements, unless something around them holds them.
((edge) => {
  const root = document.documentElement
  const wide = Math.max(root.scrollWidth, document.body ? document.body.scrollWidth : 0)
  if (wide <= edge + 1) return "[]"
  const whole = [{ Where: "<html>", Text: `is ${wide} pixels wide on a phone of ${edge}` }]
  if (!document.querySelector("meta[name=viewport]")) {
    whole[0].Text += ", for there is no <meta name=viewport>"
    return JSON.stringify(whole)
  }
  const held = (e) => e && e !== document.body && e !== root && (getComputedStyle(e).overflowX !== "visible" || held(e.parentElement))
  const beyond = (e) => e.getBoundingClientRect().right > edge + 1 && !held(e.parentElement)
  const name = (e) =>
    "<" + e.tagName.toLowerCase() + (e.id ? " id=" + e.id : "") + (e.classList.length ? " class=" + e.classList[0] : "") + ">"
  const found = [...document.querySelectorAll("body *")].filter((e) => beyond(e) && ![...e.children].some(beyond))
  const all = found.slice(0, 3).map((e) => ({
    Where: name(e),
    Text: `reaches ${Math.round(e.getBoundingClientRect().right - edge)} pixels beyond the edge of a phone of ${edge}`,
  }))
  return JSON.stringify(all.length ? all : whole)
})