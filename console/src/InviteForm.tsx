// InviteForm lends a site an address for guests.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, told, type Invitation, type Invite } from "./api"
import { Entry } from "./PreviewForm"
import { Button, Notice, Word } from "./ui"

const times: [string, number][] = [
  ["1 hour", 3600],
  ["3 hours", 3 * 3600],
  ["a day", 24 * 3600],
  ["a week", 7 * 24 * 3600],
]

// kinds are what guests may do, and what is asked for it.
export const kinds: [string, string, Partial<Invite>][] = [
  ["all", "do all that a visitor may", {}],
  ["no-sign-in", "do all but sign in", { no_sign_in: true }],
  ["look", "look only", { read_only: true }],
  ["only", "see one path alone", {}],
]

// asking is what a form asks for.
export function asking(f: {
  seconds: number
  kind: string
  only: string
  password: string
  open: boolean
  note: string
  remarks?: boolean
  place: string
}): Invite {
  const [, , more] = kinds.find(([kind]) => kind === f.kind) ?? kinds[0]
  return {
    seconds: f.seconds,
    ...more,
    ...(f.kind === "only" && { only: f.only }),
    ...(f.open ? { open: true } : f.password ? { password: f.password } : {}),
    ...(f.note && { note: f.note }),
    ...(f.remarks && { remarks: true }),
    ...(f.place.startsWith("lan ") ? { lan: f.place.slice(4) } : f.place && { relay: f.place }),
  }
}

export function InviteForm({
  name,
  running,
  done,
}: {
  name: string
  running: boolean
  done: (made: Invitation) => void
}) {
  const [f, setF] = useState({
    seconds: 3 * 3600,
    kind: "all",
    only: "/",
    password: "",
    open: false,
    note: "",
    remarks: true,
    place: "",
  })
  const [fault, setFault] = useState<string>()
  const relays = useRelays()
  const invite = async () => {
    setFault(undefined)
    try {
      const place = f.place || relays[0]?.host
      if (!place) return setFault("Name an address of this machine, or join a relay.")
      done(
        await answer(
          api.POST("/api/v1/sites/{name}/invitations", { ...of({ name }), body: asking({ ...f, place }) }),
        ),
      )
      await queries.invalidateQueries({ queryKey: ["invitations"] })
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <form
      aria-label="Invite"
      className="mt-6 max-w-2xl border-t border-line-strong pt-4"
      onSubmit={(e) => {
        e.preventDefault()
        void invite()
      }}
    >
      <h2 className="mb-3 text-[15px] font-semibold">Invite</h2>
      <div className="grid gap-x-6 gap-y-3 sm:grid-cols-2">
        <Select
          label="For"
          value={String(f.seconds)}
          of={times.map(([words, s]) => [String(s), words])}
          change={(v) => setF({ ...f, seconds: Number(v) })}
        />
        <Select
          label="Guests may"
          value={f.kind}
          of={kinds.map(([kind, words]) => [kind, words])}
          change={(kind) => setF({ ...f, kind })}
        />
        {f.kind === "only" && (
          <Entry label="Path" name="only" value={f.only} change={(only) => setF({ ...f, only })} />
        )}
        <Password open={f.open} password={f.password} change={(more) => setF({ ...f, ...more })} />
        <div>
          <Entry label="Note" name="note" value={f.note} change={(note) => setF({ ...f, note })} />
          <Check on={f.remarks} change={(remarks) => setF({ ...f, remarks })}>
            let them leave remarks on pages
          </Check>
        </div>
        <Place relays={relays.map((r) => r.host)} value={f.place} change={(place) => setF({ ...f, place })} />
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      <p className="mt-4">
        <Button type="submit" tone="strong" disabled={!running}>
          Lend it an address
        </Button>
      </p>
    </form>
  )
}

export const useRelays = () =>
  useQuery({ queryKey: ["relays"], queryFn: async () => (await answer(api.GET("/api/v1/relays"))) ?? [] })
    .data ?? []

function Select(s: {
  label: string
  value: string
  of: [string, string][]
  change: (value: string) => void
}) {
  return (
    <label className="block text-[13px] text-soft">
      {s.label}
      <select
        value={s.value}
        onChange={(e) => s.change(e.target.value)}
        className="w-full border-b border-line-strong bg-transparent py-0.5 text-[14px] text-ink"
      >
        {s.of.map(([value, words]) => (
          <option key={value} value={value}>
            {words}
          </option>
        ))}
      </select>
    </label>
  )
}

const Check = (c: { on: boolean; change: (on: boolean) => void; children: React.ReactNode }) => (
  <label className="mt-1 flex items-baseline gap-1.5 text-[13px]">
    <input
      type="checkbox"
      className="translate-y-0.5 accent-(--accent)"
      checked={c.on}
      onChange={(e) => c.change(e.target.checked)}
    />
    {c.children}
  </label>
)

function Password(p: {
  open: boolean
  password: string
  change: (more: { open?: boolean; password?: string }) => void
}) {
  return (
    <div>
      {!p.open && (
        <Entry
          label="Password"
          name="guest-password"
          value={p.password}
          placeholder="one is made up"
          change={(password) => p.change({ password })}
        />
      )}
      <Check on={p.open} change={(open) => p.change({ open })}>
        ask for none
      </Check>
    </div>
  )
}

// Place is who lends the address: a relay, or this machine in the local network.
function Place({
  relays,
  value,
  change,
}: {
  relays: string[]
  value: string
  change: (value: string) => void
}) {
  const local = value.startsWith("lan") || relays.length === 0
  return (
    <div className="sm:col-span-2">
      {relays.length > 0 && (
        <Select
          label="Lent by"
          value={local ? "lan" : value || relays[0]}
          of={[...relays.map((r): [string, string] => [r, r]), ["lan", "this machine, in the local network"]]}
          change={(v) => change(v === "lan" ? "lan " : v)}
        />
      )}
      {local && (
        <Entry
          label="Address or interface of this machine, in the local network"
          name="lan"
          placeholder="192.168.1.20"
          value={value.slice(4)}
          change={(v) => change(`lan ${v}`)}
        />
      )}
      {relays.length === 0 && <Join />}
    </div>
  )
}

// Join has this home use a relay.
function Join() {
  const [open, setOpen] = useState(false)
  const [url, setURL] = useState("https://")
  const [token, setToken] = useState("")
  const [fault, setFault] = useState<string>()
  if (!open)
    return (
      <Word className="mt-2 text-[13px]" onClick={() => setOpen(true)}>
        or join a relay, for guests elsewhere…
      </Word>
    )
  const join = () =>
    answer(api.POST("/api/v1/relays", { body: { url, token } }))
      .then(() => queries.invalidateQueries({ queryKey: ["relays"] }))
      .catch((error: unknown) => setFault(told(error)))
  return (
    <div className="mt-3 border-l-4 border-line-strong pl-4">
      <Entry label="Address of the relay" name="relay" value={url} change={setURL} />
      <Entry label="Token of the account there" name="token" value={token} change={setToken} />
      {fault && <Notice tone="fail">{fault}</Notice>}
      <p className="mt-2 flex gap-4">
        <Word onClick={() => void join()}>join it</Word>
        <Word onClick={() => setOpen(false)}>leave it</Word>
      </p>
    </div>
  )
}
