// What changes a site's whole content is rehearsed first: what would change, and what would be left alone.
import { useState, type ReactNode } from "react"
import { queries, told, type Tally } from "./api"
import { Button, Mono, Word } from "./ui"

// useRehearsal has a change rehearsed, or carried out.
export function useRehearsal(rehearse: () => Promise<Tally>, carryOut: () => Promise<void>) {
  const [tally, setTally] = useState<Tally>()
  const [fault, setFault] = useState<string>()
  const trying = async (work: () => Promise<void>) => {
    setFault(undefined)
    try {
      await work()
    } catch (error) {
      setFault(told(error))
    }
  }
  return {
    tally,
    fault,
    rehearse: () => trying(async () => setTally(await rehearse())),
    go: () =>
      trying(async () => {
        await carryOut()
        await queries.invalidateQueries()
      }),
    // changing sets a value of what is asked; what was rehearsed holds no longer.
    changing: (set: (value: string) => void) => (value: string) => {
      set(value)
      setTally(undefined)
    },
  }
}

// Rehearsable is the form around what is asked.
export function Rehearsable({
  verb,
  ready,
  busy,
  rehearsal,
  close,
  className,
  children,
}: {
  verb: string
  ready: boolean
  busy: boolean
  rehearsal: ReturnType<typeof useRehearsal>
  close: () => void
  className?: string
  children: ReactNode
}) {
  const { tally, fault, rehearse, go } = rehearsal
  return (
    <form
      className={className}
      onSubmit={(e) => {
        e.preventDefault()
        void go()
      }}
    >
      {children}
      {fault && (
        <p role="alert" className="text-[13px] text-fail">
          {fault}
        </p>
      )}
      {tally && <Rehearsed tally={tally} />}
      <p className="mt-2 flex items-center gap-4">
        <Button type="submit" tone="strong" disabled={busy || !ready}>
          {verb}
        </Button>
        <Word disabled={!ready} onClick={rehearse}>
          what would change
        </Word>
        <Word onClick={close}>leave it</Word>
      </p>
    </form>
  )
}

// Entry is one line to write.
export function Entry({
  label,
  change,
  ...input
}: {
  label: string
  name: string
  value: string
  change: (value: string) => void
  placeholder?: string
  autoFocus?: boolean
}) {
  return (
    <label className="block text-[13px] text-soft">
      {label}
      <input
        {...input}
        onChange={(e) => change(e.target.value)}
        className="w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink placeholder:text-soft"
      />
    </label>
  )
}

// Rehearsed tells what the rewriter would do, and what it leaves alone.
function Rehearsed({ tally }: { tally: Tally }) {
  const tables = Object.entries(tally.tables)
  return (
    <div className="mt-2 max-h-48 overflow-auto border-l-2 border-line-strong pl-3 text-[13px]">
      <p>
        {tables.reduce((n, [, c]) => n + c.addresses, 0)} addresses would change
        {tally.left_count > 0 && `, ${tally.left_count} values be left alone`}.
      </p>
      {tables.map(([name, c]) => (
        <p key={name} className="text-soft">
          <Mono>{name}</Mono> {c.addresses} in {c.values} values
        </p>
      ))}
      {tally.left.map((l, i) => (
        <p key={i} className="text-soft">
          {l.why}: <Mono className="break-all">{l.excerpt}</Mono>
        </p>
      ))}
    </div>
  )
}
