// Remarks on the pages of an invitation. All of it lives in a shadow tree, where the page's styles do not reach, nor ours the page.
(() => {
  const base = "/vessik-guest/"
  const page = location.pathname + location.search
  const host = document.createElement("vessik-remarks")
  const root = host.attachShadow({ mode: "closed" })
  const css = new CSSStyleSheet()
  css.replaceSync(`
:host { all: initial; color-scheme: light dark; --paper: #f6f3ec; --ink: #22282b; --soft: #5f6361; --line: #b9b2a1; }
:host { --accent: #a4471f; --on: #fff; }
@media (prefers-color-scheme: dark) {
  :host { --paper: #191c1d; --ink: #e8e4da; --soft: #a8a8a0; --line: #5a5f5f; --accent: #e58a5c; --on: #1c1310; }
}
* { box-sizing: border-box; font: 15px/1.45 system-ui, sans-serif; color: var(--ink); }
.bar { position: fixed; right: 12px; bottom: 12px; z-index: 2147483646; display: flex; gap: 6px; }
.veil { position: fixed; inset: 0; z-index: 2147483645; cursor: crosshair; background: rgb(0 0 0 / 8%); }
button { border: 1px solid var(--line); border-radius: 4px; background: var(--paper); padding: 6px 12px; cursor: pointer; }
button.strong { background: var(--accent); border-color: var(--accent); color: var(--on); }
:focus-visible { outline: 2px solid var(--accent); outline-offset: 2px; }
.pin { position: absolute; z-index: 2147483644; min-width: 26px; height: 26px; padding: 0 6px; border-radius: 13px 13px 13px 2px;
  background: var(--accent); color: var(--on); border: 2px solid var(--on); transform: translateY(-100%); font-weight: 600; line-height: 20px; }
.pin[data-state=done] { background: var(--soft); }
dialog { position: fixed; inset: auto 12px 60px auto; margin: 0; width: min(380px, calc(100vw - 24px)); max-height: calc(100vh - 90px);
  overflow: auto; border: 1px solid var(--line); border-radius: 6px; background: var(--paper); padding: 14px; z-index: 2147483647; }
label { display: block; color: var(--soft); font-size: 13px; margin-top: 8px; }
input, textarea { width: 100%; border: 1px solid var(--line); border-radius: 4px; background: transparent; padding: 6px 8px; }
textarea { min-height: 84px; resize: vertical; }
h2 { font-weight: 600; font-size: 16px; margin: 0; }
p { margin: 8px 0 0; white-space: pre-wrap; overflow-wrap: anywhere; }
p small, small { color: var(--soft); font-size: 12.5px; }
canvas { width: 100%; border: 1px solid var(--line); touch-action: none; cursor: crosshair; margin-top: 8px; }
.row { display: flex; flex-wrap: wrap; gap: 6px; margin-top: 10px; }
[role=alert] { color: #b3261e; }
`)
  root.adoptedStyleSheets = [css]
  const make = (tag, more = {}, ...children) => {
    const e = Object.assign(document.createElement(tag), more)
    e.append(...children)
    return e
  }
  const send = async (path, body) => {
    const headers = { "Content-Type": "application/json" }
    const answer = await fetch(base + path, body && { method: "POST", headers, body: JSON.stringify(body) })
    if (!answer.ok) throw new Error((await answer.text()).trim())
    return answer
  }
  const button = (text, onclick, className = "") => make("button", { type: "button", textContent: text, onclick, className })
  const who = () => sessionStorage.getItem("vessik-who") ?? ""

  // path is a selector that leads to one element.
  const path = (element) => {
    const steps = []
    for (let e = element; e && e !== document.body && e.nodeType === 1; e = e.parentElement) {
      if (e.id && document.querySelectorAll(`#${CSS.escape(e.id)}`).length === 1) return [`#${CSS.escape(e.id)}`, ...steps].join(" > ")
      const alike = [...e.parentElement.children].filter((c) => c.tagName === e.tagName)
      steps.unshift(e.tagName.toLowerCase() + (alike.length > 1 ? `:nth-of-type(${alike.indexOf(e) + 1})` : ""))
    }
    return ["body", ...steps].join(" > ")
  }
  const find = (selector) => {
    try {
      return selector ? document.querySelector(selector) : null
    } catch {
      return null
    }
  }

  const dialog = make("dialog", { onclose: () => dialog.replaceChildren() })
  const show = (label, ...children) => {
    dialog.setAttribute("aria-label", label)
    dialog.replaceChildren(...children)
    if (!dialog.open) dialog.show()
    dialog.querySelector("textarea, input, button")?.focus()
  }
  const pins = make("div")
  const toggle = button("Remark", () => point(), "strong")
  const bar = make("div", { className: "bar" }, toggle)
  root.append(pins, bar, dialog)
  root.addEventListener("keydown", (e) => {
    e.stopPropagation() // the page's own shortcuts are not meant
    if (e.key === "Escape") dialog.close()
  })

  let all = []
  const draw = () => {
    pins.replaceChildren(
      ...all.map((r, n) => {
        const box = find(r.element)?.getBoundingClientRect()
        const pin = button(String(n + 1), () => thread(r), "pin")
        pin.dataset.state = r.state
        pin.setAttribute("aria-label", `Remark ${n + 1}, ${r.state}: ${r.text.slice(0, 80)}`)
        pin.style.left = `${scrollX + (box ? box.left + r.x * box.width : 12)}px`
        pin.style.top = `${scrollY + (box ? box.top + r.y * box.height : 40 + 30 * n)}px`
        return pin
      }),
    )
  }
  const load = async () => {
    all = await (await send(`remarks?page=${encodeURIComponent(page)}`)).json()
    draw()
  }

  // point has the guest say where: by a click, or, for those who do not point, at the whole page.
  const point = () => {
    dialog.close()
    const veil = make("div", { className: "veil" })
    const end = () => {
      veil.remove()
      removeEventListener("keydown", escape, true)
      bar.replaceChildren(toggle)
    }
    const escape = (e) => e.key === "Escape" && end()
    veil.onclick = (e) => {
      end()
      const element = document.elementsFromPoint(e.clientX, e.clientY).find((each) => each !== host) ?? document.body
      const box = element.getBoundingClientRect()
      write(element, (e.clientX - box.left) / (box.width || 1), (e.clientY - box.top) / (box.height || 1))
    }
    addEventListener("keydown", escape, true)
    root.append(veil)
    bar.replaceChildren(
      button("The whole page", () => (end(), write(null, 0, 0))),
      button("Leave it", end),
    )
    bar.firstChild.focus()
  }

  const write = (element, x, y) => {
    const name = make("input", { value: who(), maxLength: 60, autocomplete: "name" })
    const text = make("textarea", { maxLength: 4000, required: true })
    const fault = make("p", { role: "alert" })
    const holder = make("div")
    let canvas
    const form = make("div")
    const attach = async () => {
      fault.textContent = "A picture of the page is being taken…"
      try {
        canvas = await sheet()
        holder.replaceChildren(canvas)
        fault.textContent = ""
      } catch (error) {
        fault.textContent = error.message
      }
    }
    const leave = async () => {
      sessionStorage.setItem("vessik-who", name.value)
      try {
        await send("remarks", {
          page, x, y, who: name.value, text: text.value,
          element: element ? path(element) : "",
          excerpt: (element?.innerText ?? "").slice(0, 120),
          width: innerWidth, height: innerHeight,
          drawing: canvas ? canvas.toDataURL("image/png").split(",")[1] : "",
        })
        dialog.close()
        await load()
      } catch (error) {
        fault.textContent = error.message
      }
    }
    form.append(
      make("h2", { textContent: element ? "What about this?" : "What about this page?" }),
      make("label", {}, "Remark", text),
      make("label", {}, "Your name", name),
      holder,
      fault,
      make("div", { className: "row" }, button("Send", () => void leave(), "strong"), button("Draw on a picture…", () => void attach()),
        button("Leave it", () => dialog.close())),
    )
    show("A remark", form)
  }

  // sheet is a picture of the page that can be drawn on.
  const sheet = async () => {
    const picture = await createImageBitmap(
      await (await send("picture", { page, width: innerWidth, height: innerHeight, top: Math.round(scrollY) })).blob(),
    )
    const scale = Math.min(1, 900 / picture.width)
    const canvas = make("canvas", { width: picture.width * scale, height: picture.height * scale })
    const to = canvas.getContext("2d")
    to.drawImage(picture, 0, 0, canvas.width, canvas.height)
    Object.assign(to, { strokeStyle: "#d3331f", lineWidth: 4, lineCap: "round", lineJoin: "round" })
    const at = (e) => [(e.offsetX * canvas.width) / canvas.clientWidth, (e.offsetY * canvas.height) / canvas.clientHeight]
    canvas.onpointerdown = (e) => {
      canvas.setPointerCapture(e.pointerId)
      to.beginPath()
      to.moveTo(...at(e))
    }
    canvas.onpointermove = (e) => {
      if (!canvas.hasPointerCapture(e.pointerId)) return
      to.lineTo(...at(e))
      to.stroke()
    }
    canvas.setAttribute("aria-label", "A picture of the page, to draw on")
    return canvas
  }

  const thread = (r) => {
    const text = make("textarea", { maxLength: 4000 })
    const fault = make("p", { role: "alert" })
    const reply = async () => {
      try {
        await send(`remarks/${r.id}`, { who: who(), text: text.value })
        await load()
        thread(all.find((each) => each.id === r.id) ?? r)
      } catch (error) {
        fault.textContent = error.message
      }
    }
    const said = (by, words) => make("p", {}, make("small", { textContent: by }), make("br"), words)
    show(
      "A remark",
      make("h2", { textContent: r.state === "done" ? "Done" : r.state === "answered" ? "Answered" : "Open" }),
      said(r.who, r.text),
      ...r.answers.map((a) => said(a.builder ? "Who builds the site" : a.who, a.text)),
      make("label", {}, "Answer", text),
      fault,
      make("div", { className: "row" }, button("Send", () => void reply(), "strong"), button("Close", () => dialog.close())),
    )
  }

  document.documentElement.append(host)
  addEventListener("resize", draw)
  addEventListener("load", draw)
  load().catch(() => {})
})()
