// Small parts that all pages share: behaviour from Radix, looks from the tokens.
import { AlertDialog } from "radix-ui"
import { Component, useState, type ButtonHTMLAttributes, type ReactNode } from "react"
import { Link } from "wouter"
import { ask, queries, Refusal, type Site, type Verb } from "./api"

export function Button({
  tone = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { tone?: "plain" | "strong" | "danger" }) {
  const looks = {
    plain: "border-line-strong bg-sheet hover:border-ink",
    strong: "border-ink bg-ink text-paper hover:bg-accent hover:border-accent hover:text-accent-ink",
    danger: "border-fail text-fail bg-transparent hover:bg-fail hover:text-paper",
  }[tone]
  return (
    <button
      type="button"
      className={`shrink-0 whitespace-nowrap rounded-sm border px-3 py-1 text-[14px] font-medium transition-colors disabled:pointer-events-none disabled:opacity-45 ${looks} ${className}`}
      {...rest}
    />
  )
}

// Word is an action written as a word in a line of text.
export function Word({ className = "", ...rest }: ButtonHTMLAttributes<HTMLButtonElement>) {
  return (
    <button
      type="button"
      className={`underline decoration-line-strong decoration-1 underline-offset-4 hover:text-accent hover:decoration-accent disabled:no-underline disabled:opacity-40 ${className}`}
      {...rest}
    />
  )
}

export function Notice({ children, tone = "plain" }: { children: ReactNode; tone?: "plain" | "fail" }) {
  return (
    <div
      role={tone === "fail" ? "alert" : "status"}
      className={`my-3 border-l-4 px-4 py-2 ${tone === "fail" ? "border-fail bg-fail-wash" : "border-line-strong bg-wash"}`}
    >
      {children}
    </div>
  )
}

// Crumbs lead from a page of a site back to it.
export const Crumbs = ({ name, here }: { name: string; here: string }) => (
  <p className="text-[13px] text-soft">
    <Link href="/" className="underline decoration-line-strong underline-offset-4">
      Fleet
    </Link>{" "}
    /{" "}
    <Link href={`/sites/${name}`} className="underline decoration-line-strong underline-offset-4">
      {name}
    </Link>{" "}
    / {here}
  </p>
)

export const Mono = ({ children, className = "" }: { children: ReactNode; className?: string }) => (
  <span className={`font-mono text-[13px] ${className}`}>{children}</span>
)

export const stateWords: Record<Site["state"], string> = {
  making: "being made",
  starting: "starting",
  running: "running",
  stopping: "stopping",
  stopped: "stopped",
  failed: "failed",
  retiring: "being retired",
}

export const stateOf = (s: Site) => (s.resting ? "at rest" : stateWords[s.state])

// useAsk sends a request about sites and keeps what the service refused.
export function useAsk() {
  const [fault, setFault] = useState<string>()
  const send = async (verb: Verb, names: string[], keepFiles = false) => {
    setFault(undefined)
    try {
      await ask(verb, names, keepFiles)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(
        error instanceof Refusal
          ? [error.message, ...error.problems.map((p) => `${p.site ?? ""} ${p.message}`)].join("; ")
          : String(error),
      )
    }
  }
  return { send, fault, clear: () => setFault(undefined) }
}

// Retire asks before it removes anything.
export function Retire({
  sites,
  trigger,
  onRetire,
}: {
  sites: Site[]
  trigger: ReactNode
  onRetire: (keepFiles: boolean) => void
}) {
  const [keep, setKeep] = useState(false)
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>{trigger}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <AlertDialog.Content className="fixed left-1/2 top-[18vh] z-50 w-[min(36rem,calc(100vw-2rem))] -translate-x-1/2 rounded-sm border border-line-strong bg-sheet p-6 shadow-xl">
          <AlertDialog.Title className="text-xl font-semibold">
            {sites.length === 1 ? `Retire ${sites[0].title}?` : `Retire ${sites.length} sites?`}
          </AlertDialog.Title>
          <AlertDialog.Description className="mt-2 text-soft">
            This removes, and cannot be undone:
          </AlertDialog.Description>
          <ul className="my-3 max-h-56 space-y-1 overflow-auto border-l-4 border-fail pl-4">
            {sites.map((s) => (
              <li key={s.name}>
                <Mono className="break-all">
                  {keep ? <s className="opacity-60">{s.folder}</s> : s.folder}
                </Mono>{" "}
                and the database <Mono>{s.database.name}</Mono>
              </li>
            ))}
          </ul>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              className="accent-(--accent)"
              checked={keep}
              onChange={(e) => setKeep(e.target.checked)}
            />{" "}
            Keep the files, and the database as a dump
          </label>
          <div className="mt-5 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Leave it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button tone="danger" onClick={() => onRetire(keep)}>
                Retire
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  )
}

// Guard shows what went wrong in a page instead of an empty window.
export class Guard extends Component<{ children: ReactNode }, { fault?: Error }> {
  state: { fault?: Error } = {}
  static getDerivedStateFromError(fault: Error) {
    return { fault }
  }
  render() {
    if (!this.state.fault) return this.props.children
    return (
      <Notice tone="fail">
        This page could not be drawn: <Mono>{this.state.fault.message}</Mono>.{" "}
        <Word onClick={() => location.reload()}>Load it again</Word>
      </Notice>
    )
  }
}

export const Fact = ({ name, children }: { name: string; children: ReactNode }) => (
  <>
    <dt className="text-[13px] text-soft">{name}</dt>
    <dd className="min-w-0 break-words">{children}</dd>
  </>
)
