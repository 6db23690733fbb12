// Terminal: a shell in the site's cell, which ends with the page.
import { FitAddon } from "@xterm/addon-fit"
import { Terminal } from "@xterm/xterm"
import "@xterm/xterm/css/xterm.css"
import { useEffect, useRef, useState } from "react"
import { answer, api, of, told } from "./api"
import { Button, Crumbs, Mono, Notice } from "./ui"

const often = 1 << 16 // after so many bytes the service hears that they were shown

const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

// theme is the page's own, as it is now.
const theme = () => ({
  background: colour("--sheet"),
  foreground: colour("--ink"),
  cursor: colour("--accent"),
  selectionBackground: colour("--line-strong"),
})

// join has a terminal and a shell hear each other, until the shell ends or the page is left.
function join(terminal: Terminal, address: string, ended: (why: string) => void) {
  const socket = new WebSocket(location.origin.replace(/^http/, "ws") + address)
  socket.binaryType = "arraybuffer"
  const say = (event: object) => socket.readyState === WebSocket.OPEN && socket.send(JSON.stringify(event))
  const size = () => say({ size: { rows: terminal.rows, columns: terminal.cols } })
  const encoder = new TextEncoder()
  let shown = 0
  let why = "It has ended."
  socket.onopen = size
  socket.onmessage = (e: MessageEvent<ArrayBuffer | string>) => {
    if (typeof e.data === "string") {
      const event = JSON.parse(e.data) as { problem?: string; exit?: number }
      why = event.problem ?? `The shell has ended with ${event.exit}.`
      return
    }
    const text = new Uint8Array(e.data, 1) // behind the byte that names the stream
    terminal.write(text, () => {
      shown += text.length
      if (shown < often) return
      say({ seen: shown })
      shown = 0
    })
  }
  socket.onclose = () => ended(why)
  const typed = terminal.onData((text) => {
    if (socket.readyState === WebSocket.OPEN) socket.send(encoder.encode(text))
  })
  const resized = terminal.onResize(size)
  return () => {
    socket.onclose = null
    socket.close()
    typed.dispose()
    resized.dispose()
  }
}

export default function TerminalPage({ name }: { name: string }) {
  const at = useRef<HTMLDivElement>(null)
  const [ended, setEnded] = useState<string>()
  const [again, setAgain] = useState(0)
  useEffect(() => {
    if (!at.current) return
    const terminal = new Terminal({
      fontFamily: '"IBM Plex Mono", monospace',
      fontSize: 13,
      theme: theme(),
      scrollback: 5000,
      minimumContrastRatio: 4.5,
      screenReaderMode: true,
    })
    const fit = new FitAddon()
    terminal.loadAddon(fit)
    terminal.open(at.current)
    fit.fit()
    terminal.focus()
    const fits = new ResizeObserver(() => fit.fit())
    fits.observe(at.current)
    const looks = new MutationObserver(() => (terminal.options.theme = theme()))
    looks.observe(document.documentElement, { attributes: true })
    let left = false
    let leave = () => {}
    answer(api.POST("/api/v1/sites/{name}/terminal", of({ name }))).then(
      (link) => {
        if (!left) leave = join(terminal, link.url, setEnded)
      },
      (error: unknown) => setEnded(told(error)),
    )
    return () => {
      left = true
      leave()
      fits.disconnect()
      looks.disconnect()
      terminal.dispose()
    }
  }, [name, again])
  const open = () => {
    setEnded(undefined)
    setAgain(again + 1)
  }
  return (
    <>
      <Crumbs name={name} here="terminal" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">Terminal of {name}</h1>
      <p className="mb-3 mt-1 max-w-3xl text-soft">
        In the site’s cell and folder, with its <Mono>php</Mono> and <Mono>mariadb</Mono>. It ends with this
        page, or when nothing was typed for an hour.
      </p>
      {ended && (
        <Notice>
          {ended} <Button onClick={open}>Open another</Button>
        </Notice>
      )}
      <section aria-label="Terminal" className="border border-line-strong bg-sheet p-2">
        <div ref={at} className="h-[60vh] min-h-64" />
      </section>
    </>
  )
}
