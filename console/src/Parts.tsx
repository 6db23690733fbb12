// Parts: the plugins and themes of a site, and those of the shelf that it could have.
import { useQuery } from "@tanstack/react-query"
import { answer, api, of, useShelf, useSites, type ChangeParts, type Part } from "./api"
import { useAct, useBusy } from "./Restore"
import { Crumbs, Mono, Notice, Word } from "./ui"

export function PartsPage({ name }: { name: string }) {
  const busy = useBusy(name)
  const parts = useQuery({
    queryKey: ["parts", name, busy],
    queryFn: async () => (await answer(api.GET("/api/v1/sites/{name}/parts", of({ name })))) ?? [],
  })
  const cms = useSites().data?.find((s) => s.name === name)?.cms.name
  const shelf = (useShelf().data?.items ?? []).filter(
    (i) => i.cms === cms && (i.kind === "plugin" || i.kind === "theme") && !i.fault,
  )
  const { fault, act } = useAct()
  const change = (body: ChangeParts) =>
    act(() => answer(api.POST("/api/v1/sites/{name}/parts", { ...of({ name }), body })))
  return (
    <>
      <Crumbs name={name} here="plugins and themes" />
      <h1 className="mt-1 text-[26px] font-bold tracking-tight">Plugins and themes</h1>
      <p className="mb-4 max-w-3xl text-soft">
        They are read from the folder and the database; none is run for it. The site is verified before and
        after a change, and becomes what it was when a check fails that passed before.{" "}
        <span aria-live="polite" className="text-accent">
          {busy}
        </span>
      </p>
      {parts.isError && <Notice tone="fail">{parts.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <ul className="border-b border-line-strong">
        {parts.data?.map((p) => (
          <One key={p.kind + p.name} part={p} busy={!!busy} change={change} />
        ))}
      </ul>
      {shelf.length > 0 && (
        <>
          <h2 className="mb-1 mt-7 text-[15px] font-semibold">On the shelf</h2>
          <ul className="border-b border-line-strong">
            {shelf.map((i) => {
              const there = parts.data?.find((p) => p.kind === i.kind && p.name === i.name)
              return (
                <li key={i.file} className={row}>
                  <span className="text-soft">{i.kind}</span>
                  <span className="min-w-0 break-words font-medium">{i.title}</span>
                  <Mono className="text-soft">{i.name}</Mono>
                  <Mono>{i.version}</Mono>
                  <span />
                  <span>
                    <Word disabled={!!busy} onClick={() => change({ add: [`${i.name}@${i.version}`] })}>
                      {!there
                        ? "add"
                        : there.version === i.version
                          ? "lay out again"
                          : `in the place of ${there.version}`}
                    </Word>
                  </span>
                </li>
              )
            })}
          </ul>
        </>
      )}
    </>
  )
}

const row =
  "grid items-baseline gap-x-5 border-t border-line py-2 lg:grid-cols-[4.5rem_minmax(0,1.3fr)_minmax(0,1fr)_6rem_4rem_13rem]"

function One({ part: p, busy, change }: { part: Part; busy: boolean; change: (body: ChangeParts) => void }) {
  return (
    <li className={row}>
      <span className="text-soft">{p.kind}</span>
      <span className="min-w-0 break-words font-medium">{p.title}</span>
      <Mono className="break-all text-soft">{p.folder ?? p.name}</Mono>
      <Mono>{p.version}</Mono>
      <span className={p.on ? "font-semibold" : "text-soft"}>{p.on ? "on" : "off"}</span>
      <span className="flex gap-4">
        {p.on && p.kind === "plugin" && (
          <Word disabled={busy} onClick={() => change({ off: [p.name] })}>
            switch off
          </Word>
        )}
        {!p.on && (
          <Word disabled={busy} onClick={() => change({ on: [p.name] })}>
            {p.kind === "theme" ? "use it" : "switch on"}
          </Word>
        )}
        {!p.folder && (p.kind === "plugin" || !p.on) && (
          <Word disabled={busy} className="text-fail" onClick={() => change({ drop: [p.name] })}>
            drop
          </Word>
        )}
      </span>
    </li>
  )
}
