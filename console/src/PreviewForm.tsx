// What changes a site's whole content is previewed first: what becomes another, and what would be left alone.
import { useState, type ReactNode } from "react"
import { queries, told, type Tally } from "./api"
import { Button, Mono, Word } from "./ui"

// usePreview has a change previewed, or carried out.
export function usePreview(look: () => Promise<Tally>, carryOut: () => Promise<void>) {
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
    look: () => trying(async () => setTally(await look())),
    go: () =>
      trying(async () => {
        await carryOut()
        await queries.invalidateQueries()
      }),
    // changing sets a value of what is asked; what was previewed holds no longer.
    changing: (set: (value: string) => void) => (value: string) => {
      set(value)
      setTally(undefined)
    },
  }
}

// PreviewForm is the form around what is asked.
export function PreviewForm({
  verb,
  ready,
  busy,
  preview,
  close,
  className,
  children,
}: {
  verb: string
  ready: boolean
  busy: boolean
  preview: ReturnType<typeof usePreview>
  close: () => void
  className?: string
  children: ReactNode
}) {
  const { tally, fault, look, go } = preview
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
      {tally && <Previewed tally={tally} />}
      <p className="mt-2 flex items-center gap-4">
        <Button type="submit" tone="strong" disabled={busy || !ready}>
          {verb}
        </Button>
        <Word disabled={!ready} onClick={look}>
          Preview changes
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

// BaseAddress asks for the address that a dump was made at.
export const BaseAddress = (entry: { name: string; value: string; change: (value: string) => void }) => (
  <Entry
    {...entry}
    label="Base address in it, where it does not tell"
    placeholder="https://orchard-days.example"
  />
)

// Previewed tells what the rewriter would do, and what it leaves alone.
function Previewed({ tally }: { tally: Tally }) {
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
