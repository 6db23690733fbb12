// What leaves the mailbox by hand: a mail program that opens it, and one message that is handed on.
import { useState, type ReactNode } from "react"
import { answer, api, of, told, type HandedOn, type MailAccess } from "./api"
import { Button, Fact, Mono, Notice, Word } from "./ui"

// Access tells how a mail program opens a site's mailbox.
export function Access({ site }: { site: string }) {
  const [access, setAccess] = useState<MailAccess>()
  const [fault, setFault] = useState<string>()
  const ask = () =>
    answer(api.POST("/api/v1/sites/{name}/mail-access", of({ name: site }))).then(
      setAccess,
      (error: unknown) => setFault(told(error)),
    )
  if (fault) return <Notice tone="fail">{fault}</Notice>
  if (!access) return <Word onClick={() => void ask()}>in a mail program…</Word>
  const facts: [string, ReactNode][] = [
    ["server", <Mono key="s">{access.host}</Mono>],
    ["port", <Mono key="p">{access.port}</Mono>],
    ["protocol", "IMAP, without TLS"],
    ["user", <Mono key="u">{access.user}</Mono>],
    ["password", <Mono key="w">{access.password}</Mono>],
  ]
  return (
    <dl className="grid w-full grid-cols-[7rem_minmax(0,1fr)] gap-x-4 gap-y-0.5">
      {facts.map(([name, value]) => (
        <Fact key={name} name={name}>
          {value}
        </Fact>
      ))}
    </dl>
  )
}

// HandOn sends one message to a real address, once it was shown what would be sent.
export function HandOn({ id, done }: { id: number; done: () => void }) {
  const [to, setTo] = useState("")
  const [seen, setSeen] = useState<HandedOn>()
  const [fault, setFault] = useState<string>()
  const ask = async (preview: boolean) => {
    setFault(undefined)
    try {
      setSeen(await answer(api.POST("/api/v1/mail/{id}/hand-on", { ...of({ id }), body: { to, preview } })))
    } catch (error) {
      setFault(told(error))
    }
  }
  if (seen?.sent) {
    return (
      <p role="status" className="border-b border-line py-2">
        Handed on to {seen.to}. <Word onClick={done}>close</Word>
      </p>
    )
  }
  return (
    <form
      className="flex flex-wrap items-baseline gap-x-4 gap-y-2 border-b border-line py-2"
      onSubmit={(e) => {
        e.preventDefault()
        void ask(!seen)
      }}
    >
      <label>
        Hand on to{" "}
        <input
          type="email"
          required
          value={to}
          onChange={(e) => {
            setTo(e.target.value)
            setSeen(undefined)
          }}
          className="w-64 border-b border-line-strong bg-transparent"
        />
      </label>
      <Button type="submit">{seen ? "Send it" : "Preview"}</Button>
      <Word type="button" onClick={done}>
        leave it
      </Word>
      {seen && (
        <p className="w-full text-soft">
          “{seen.subject || "no subject"}”, {Math.ceil(seen.bytes / 1024)} KB, goes from {seen.from} to{" "}
          {seen.to} by <Mono>{seen.server}</Mono>.
        </p>
      )}
      {fault && <Notice tone="fail">{fault}</Notice>}
    </form>
  )
}
