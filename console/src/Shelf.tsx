// Shelf: CMS releases, plugins and themes that are kept on this machine.
import { useState } from "react"
import { answer, api, of, request, queries, Refusal, told, useShelf, type ShelfItem } from "./api"
import { Button, Mono, Notice, Word } from "./ui"

// Act does something with the shelf, and says what meanwhile.
type Act = (what: string, work: () => Promise<unknown>) => Promise<void>

export function ShelfPage() {
  const shelf = useShelf()
  const [fault, setFault] = useState<string>()
  const [busy, setBusy] = useState("")
  const act: Act = async (what, work) => {
    setBusy(what)
    setFault(undefined)
    try {
      await work()
    } catch (error) {
      setFault(told(error))
    }
    setBusy("")
    await queries.invalidateQueries()
  }
  const items = shelf.data?.items ?? []
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Shelf</h1>
      <p className="mb-4 max-w-3xl text-soft">
        CMS releases, plugins and themes that are kept on this machine as zip archives, so that sites are made
        of them without a network. What you drop into <Mono>{shelf.data?.folder}</Mono> is found as well.
      </p>
      {shelf.isError && <Notice tone="fail">{shelf.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <Add act={act} busy={busy} />
      <div className="grid lg:grid-cols-[minmax(0,1.4fr)_6rem_7rem_8rem_minmax(0,1.2fr)_4rem] gap-x-5 border-b border-line-strong pb-1 max-lg:[&>span]:hidden text-[13px] text-soft">
        <span>What it is</span>
        <span>Kind</span>
        <span>Version</span>
        <span>For</span>
        <span>Archive</span>
        <span />
      </div>
      {shelf.data && items.length === 0 && <p className="py-8 text-soft">Nothing is on the shelf yet.</p>}
      {items.map((item) => (
        <One
          key={item.file}
          item={item}
          drop={() => act("", () => answer(api.DELETE("/api/v1/shelf/{name}", of({ name: item.file }))))}
        />
      ))}
    </>
  )
}

// takeIn has the service keep an archive.
async function takeIn(file: File) {
  const answer = await request(`/shelf/${encodeURIComponent(file.name)}`, {
    method: "PUT",
    body: file,
    headers: { "Content-Type": "application/zip" },
  })
  if (!answer.ok) {
    const told = await answer.json()
    throw new Refusal(answer.status, told.detail, told.errors ?? [])
  }
}

// Add brings archives to the shelf, from this machine or from an address.
function Add({ act, busy }: { act: Act; busy: string }) {
  const [address, setAddress] = useState("")
  return (
    <form
      className="mb-5 flex flex-wrap items-end gap-x-6 gap-y-3"
      onSubmit={(e) => {
        e.preventDefault()
        void act("fetching…", async () => {
          await answer(
            api.POST("/api/v1/shelf/fetch", {
              body: address.includes("/") ? { address } : { package: address },
            }),
          )
          setAddress("")
        })
      }}
    >
      <label className="cursor-pointer rounded-sm border border-line-strong bg-sheet px-3 py-1 text-[14px] font-medium focus-within:outline-2 focus-within:outline-offset-2 focus-within:outline-accent hover:border-ink">
        Add archives…
        <input
          type="file"
          name="archive"
          accept=".zip"
          multiple
          className="sr-only"
          onChange={(e) =>
            act("taking it in…", async () => {
              for (const file of e.target.files ?? []) await takeIn(file)
            })
          }
        />
      </label>
      <label className="grow basis-80">
        <span className="text-[13px] text-soft">
          or fetch one: an address, or a Debian package of plugins or themes
        </span>
        <input
          name="address"
          value={address}
          onChange={(e) => setAddress(e.target.value)}
          spellCheck={false}
          placeholder="https://plugins.example/garden-menu.1.2.zip"
          className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px] placeholder:text-faint"
        />
      </label>
      <Button type="submit" disabled={!address || !!busy}>
        Fetch
      </Button>
      <span aria-live="polite" className="text-[13px] text-accent">
        {busy}
      </span>
    </form>
  )
}

function One({ item, drop }: { item: ShelfItem; drop: () => void }) {
  const [sure, setSure] = useState(false)
  return (
    <div
      data-item={item.file}
      className="grid lg:grid-cols-[minmax(0,1.4fr)_6rem_7rem_8rem_minmax(0,1.2fr)_4rem] items-baseline gap-x-5 border-b border-line py-1.5"
    >
      <span className="min-w-0 font-medium">
        {item.fault ? <span className="text-fail">{item.fault}</span> : item.title}
        {!item.fault && <Mono className="block text-soft">{item.name}</Mono>}
      </span>
      <span>{item.kind}</span>
      <Mono>{item.version}</Mono>
      <Mono>{item.cms}</Mono>
      <span className="min-w-0">
        <Mono className="block truncate">{item.file}</Mono>
        <Mono className="block truncate text-soft">{item.sha256 && `sha256 ${item.sha256}`}</Mono>
      </span>
      <span className="text-right text-[13px]">
        {sure ? (
          <Word className="text-fail" onClick={drop}>
            drop it
          </Word>
        ) : (
          <Word onClick={() => setSure(true)}>drop…</Word>
        )}
      </span>
    </div>
  )
}
