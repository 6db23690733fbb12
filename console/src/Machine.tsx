// Machine: what Vessik finds here, before and while it works: each finding with its verdict and, where there is one, its remedy.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, queries, told } from "./api"
import { Button, Mono, Notice, Word } from "./ui"
import { Sessions } from "./Sessions"

const looks = {
  good: { mark: "border-pass", word: "good" },
  notice: { mark: "border-line-strong", word: "worth knowing" },
  fault: { mark: "border-fail", word: "will not work" },
} as const

export function Machine() {
  const survey = useQuery({
    queryKey: ["survey"],
    queryFn: () => answer(api.GET("/api/v1/survey")),
    staleTime: 60_000,
  })
  const areas = [...new Set(survey.data?.findings.map((f) => f.area))]
  const count = (verdict: keyof typeof looks) =>
    survey.data?.findings.filter((f) => f.verdict === verdict).length ?? 0
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Machine</h1>
      <p className="mb-4 text-soft">
        What Vessik finds here; looking changes nothing.{" "}
        {survey.data && (
          <>
            {count("fault") > 0 ? (
              <b className="font-semibold text-fail">{count("fault")} will not work</b>
            ) : (
              "Everything it needs works"
            )}
            , {count("notice")} worth knowing.{" "}
            <Word disabled={survey.isFetching} onClick={() => survey.refetch()}>
              {survey.isFetching ? "looking…" : "look again"}
            </Word>
          </>
        )}
      </p>
      {survey.isError && <Notice tone="fail">{survey.error.message}</Notice>}
      {!survey.data && !survey.isError && <div className="h-40 animate-pulse bg-wash" aria-busy />}
      <Names />
      <Authority />
      <Sessions />
      <div className="gap-x-12 lg:columns-2">
        {areas.map((area) => (
          <section key={area} className="mb-6 break-inside-avoid">
            <h2 className="border-b border-line-strong pb-1 text-[15px] font-semibold">
              {area[0].toUpperCase() + area.slice(1)}
            </h2>
            <dl>
              {survey.data?.findings
                .filter((f) => f.area === area)
                .map((f) => (
                  <div
                    key={f.subject}
                    data-verdict={f.verdict}
                    className="grid md:grid-cols-[11rem_minmax(0,1fr)] gap-x-4 border-b border-line py-1.5"
                  >
                    <dt className={`border-l-4 pl-2 ${looks[f.verdict].mark}`}>
                      {f.subject}
                      {f.verdict !== "good" && (
                        <span
                          className={`block text-[13px] ${f.verdict === "fault" ? "text-fail" : "text-soft"}`}
                        >
                          {looks[f.verdict].word}
                        </span>
                      )}
                    </dt>
                    <dd className="break-words">
                      {f.observed}
                      {f.remedy && <span className="block text-[13px] text-soft">{f.remedy}</span>}
                    </dd>
                  </div>
                ))}
            </dl>
          </section>
        ))}
      </div>
    </>
  )
}

// Authority is what browsers have to believe for https without a warning.
function Authority() {
  const authority = useQuery({
    queryKey: ["authority"],
    queryFn: () => answer(api.GET("/api/v1/authority")),
  })
  const a = authority.data
  if (!a) return null
  return (
    <section data-authority className="mb-6 border-y border-line-strong py-4">
      <h2 className="text-[15px] font-semibold">Certificates for https</h2>
      <p>
        This home signs them itself, as <Mono>{a.name}</Mono>, for {a.endings.join(", ")} and for nothing
        else. Have your browsers believe it with <Mono>vessik authority add</Mono>, or give them{" "}
        <a
          className="text-accent underline"
          download="vessik-authority.pem"
          href={`data:application/x-pem-file,${encodeURIComponent(a.certificate)}`}
        >
          its certificate
        </a>{" "}
        by hand.
      </p>
      <p className="text-[13px] break-all text-soft">
        Until {a.not_after.slice(0, 10)}; SHA-256 {a.sha256}
      </p>
    </section>
  )
}

// Names are the domains that do not end in .localhost: this machine has to be told of them.
function Names() {
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => answer(api.GET("/api/v1/hosts")) })
  const [fault, setFault] = useState<string>()
  const h = hosts.data
  if (!h || (h.domains.length === 0 && !h.allowed)) return null
  const allow = async (yes: boolean) => {
    setFault(undefined)
    try {
      await answer(api.PUT("/api/v1/hosts", { body: { allow: yes } }))
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <section className="mb-6 grid md:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-12 border-y border-line-strong py-4">
      <div>
        <h2 className="text-[15px] font-semibold">Domains that this machine has to be told of</h2>
        <ul className="mt-1">
          {h.domains.map((d) => (
            <li key={d}>
              <Mono>{d}</Mono>{" "}
              <span className={`text-[13px] ${h.not_found.includes(d) ? "text-fail" : "text-soft"}`}>
                {h.not_found.includes(d) ? "is not found yet" : "leads to this machine"}
              </span>
            </li>
          ))}
        </ul>
        {h.resolver && (
          <p className="mt-2 text-[13px] text-soft">
            Or point your resolver to <Mono>{h.resolver}</Mono> (DNS) for the ending {h.endings?.join(", ")}.
          </p>
        )}
        {(fault ?? h.fault) && <Notice tone="fail">{fault ?? h.fault}</Notice>}
        <p className="mt-3 flex items-center gap-4">
          {h.allowed ? (
            <Button onClick={() => allow(false)}>Take the block away</Button>
          ) : (
            <Button tone="strong" onClick={() => allow(true)}>
              Let the service keep this block
            </Button>
          )}
          <span className="text-[13px] text-soft">
            {h.current
              ? `${h.file} holds it`
              : h.allowed && !h.writable
                ? `The service's account cannot write ${h.file}: run sudo vessik hosts -write`
                : `for ${h.file}; lines outside it are never touched`}
          </span>
        </p>
      </div>
      <pre className="overflow-auto border border-line bg-sheet p-3 font-mono text-[12.5px] leading-snug">
        {h.block || "(nothing)"}
      </pre>
    </section>
  )
}
