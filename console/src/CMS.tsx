// CMS and stencils: what sites can be made of, and the sites that were saved for it.
import { useState } from "react"
import { answer, api, of, download, queries, told, useImage, useCMS, useStencils, type Stencil } from "./api"
import { Mono, Notice, Word } from "./ui"

const megabytes = (bytes: number) => `${Math.max(1, Math.round(bytes / 1048576))} MB`

export function CMSPage() {
  const definitions = useCMS()
  const stencils = useStencils()
  const faults = Object.entries(definitions.data?.faults ?? {})
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">CMS and stencils</h1>
      <p className="mb-4 text-soft">
        A CMS definition is what Vessik knows of one CMS; your own are folders in{" "}
        <Mono>{definitions.data?.folder}</Mono> and are there at once. A stencil is a site that was saved, for
        new ones to be drawn from.
      </p>
      {definitions.isError && <Notice tone="fail">{definitions.error.message}</Notice>}
      {faults.map(([folder, text]) => (
        <Notice key={folder} tone="fail">
          Left out: <Mono>{folder}</Mono>
          <pre className="mt-1 whitespace-pre-wrap font-mono text-[12.5px]">{text}</pre>
        </Notice>
      ))}
      <section className="mb-8">
        <h2 className="grid lg:grid-cols-[14rem_11rem_minmax(0,1fr)_14rem] gap-x-4 border-b border-line-strong pb-1 max-lg:[&>span]:hidden text-[13px] text-soft">
          <b className="text-[15px] font-semibold text-ink">CMS definitions</b>
          <span>Versions</span>
          <span>What it is</span>
          <span>Sites</span>
        </h2>
        {definitions.data?.cms.map((k) => (
          <div
            key={k.name}
            data-cms={k.name}
            className="grid lg:grid-cols-[14rem_11rem_minmax(0,1fr)_14rem] items-baseline gap-x-4 border-b border-line py-1.5"
          >
            <span className="font-medium">
              {k.title}
              <Mono className="block text-soft">{k.name}</Mono>
            </span>
            <Mono>{k.versions.join(", ") || "any"}</Mono>
            <span>
              {k.about}
              {k.finishing_touches.length > 0 && (
                <span className="block text-[13px] text-soft">
                  {k.finishing_touches.length} finishing touches
                </span>
              )}
              {k.from && <Mono className="block text-soft">{k.from}</Mono>}
            </span>
            <span className="truncate text-[13px] text-soft" title={k.sites.join(", ")}>
              {k.sites.join(", ")}
            </span>
          </div>
        ))}
      </section>
      <section>
        <h2 className="border-b border-line-strong pb-1 text-[15px] font-semibold">Stencils</h2>
        {stencils.data?.length === 0 && (
          <p className="py-6 text-soft">
            None yet. A site's page, under Folder, saves it as one: files and database, without passwords,
            secrets and caches.
          </p>
        )}
        <div className="grid grid-cols-2 gap-x-10">
          {stencils.data?.map((s) => (
            <One key={s.name + s.description} stencil={s} />
          ))}
        </div>
      </section>
    </>
  )
}

function One({ stencil: s }: { stencil: Stencil }) {
  const [description, setDescription] = useState(s.description)
  const [sure, setSure] = useState(false)
  const [fault, setFault] = useState<string>()
  const picture = useImage(`/stencils/${s.name}/picture`)
  const act = async (work: () => Promise<unknown>) => {
    try {
      await work()
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <article
      data-stencil={s.name}
      className="grid md:grid-cols-[11rem_minmax(0,1fr)] gap-x-5 border-b border-line py-4"
    >
      {picture ? (
        <img src={picture} alt={`Front page of ${s.title}`} className="w-full border border-line" />
      ) : (
        <span className="aspect-[8/5] border border-line bg-wash" />
      )}
      <div className="min-w-0">
        <h3 className="text-[17px] font-semibold">{s.name}</h3>
        <input
          value={description}
          aria-label={`Description of ${s.name}`}
          onChange={(e) => setDescription(e.target.value)}
          onBlur={() =>
            description !== s.description &&
            act(() =>
              answer(api.PUT("/api/v1/stencils/{name}", { ...of({ name: s.name }), body: { description } })),
            )
          }
          placeholder="what it is for…"
          className="w-full border-b border-transparent bg-transparent placeholder:text-faint hover:border-line-strong focus:border-line-strong"
        />
        <p className="mt-1 text-[13px] text-soft">
          {s.cms.name} {s.cms.version}, saved from {s.from} on{" "}
          {new Date(s.created_at).toLocaleDateString("sv")}
        </p>
        <p className="text-[13px] text-soft">
          {s.files} files of {megabytes(s.file_bytes)}, database {megabytes(s.database_bytes)},{" "}
          {megabytes(s.size_bytes)} on disk
        </p>
        <p className="mt-2 flex gap-4 text-[13px]">
          <Word onClick={() => download(`/stencils/${s.name}/file`).catch((error) => setFault(told(error)))}>
            export
          </Word>
          {sure ? (
            <>
              <Word
                className="text-fail"
                onClick={() => act(() => answer(api.DELETE("/api/v1/stencils/{name}", of({ name: s.name }))))}
              >
                yes, drop it
              </Word>
              <Word onClick={() => setSure(false)}>leave it</Word>
            </>
          ) : (
            <Word onClick={() => setSure(true)}>drop…</Word>
          )}
        </p>
        {fault && <Notice tone="fail">{fault}</Notice>}
      </div>
    </article>
  )
}
