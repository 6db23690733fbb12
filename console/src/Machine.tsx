// Machine: what Vessik finds here, before and while it works: each finding with its verdict and, where there is one, its remedy.
import { useQuery } from "@tanstack/react-query"
import { call, type Survey } from "./api"
import { Notice, Word } from "./ui"

const looks = {
  good: { mark: "border-pass", word: "good" },
  notice: { mark: "border-line-strong", word: "worth knowing" },
  fault: { mark: "border-fail", word: "will not work" },
} as const

export function Machine() {
  const survey = useQuery({ queryKey: ["survey"], queryFn: () => call<Survey>("GET", "/survey"), staleTime: 60_000 })
  const areas = [...new Set(survey.data?.findings.map((f) => f.area))]
  const count = (verdict: keyof typeof looks) => survey.data?.findings.filter((f) => f.verdict === verdict).length ?? 0
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Machine</h1>
      <p className="mb-4 text-soft">
        What Vessik finds here; looking changes nothing.{" "}
        {survey.data && <>{count("fault") > 0 ? <b className="font-semibold text-fail">{count("fault")} will not work</b> : "Everything it needs works"}, {count("notice")} worth knowing. <Word disabled={survey.isFetching} onClick={() => survey.refetch()}>{survey.isFetching ? "looking…" : "look again"}</Word></>}
      </p>
      {survey.isError && <Notice tone="fail">{survey.error.message}</Notice>}
      {!survey.data && !survey.isError && <div className="h-40 animate-pulse bg-wash" aria-busy />}
      <div className="gap-x-12 lg:columns-2">
        {areas.map((area) => (
          <section key={area} className="mb-6 break-inside-avoid">
            <h2 className="border-b border-line-strong pb-1 text-[15px] font-semibold">{area[0].toUpperCase() + area.slice(1)}</h2>
            <dl>
              {survey.data!.findings.filter((f) => f.area === area).map((f) => (
                <div key={f.subject} data-verdict={f.verdict} className="grid grid-cols-[11rem_minmax(0,1fr)] gap-x-4 border-b border-line py-1.5">
                  <dt className={`border-l-4 pl-2 ${looks[f.verdict].mark}`}>{f.subject}{f.verdict !== "good" && <span className={`block text-[13px] ${f.verdict === "fault" ? "text-fail" : "text-soft"}`}>{looks[f.verdict].word}</span>}</dt>
                  <dd className="break-words">{f.observed}{f.remedy && <span className="block text-[13px] text-soft">{f.remedy}</span>}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
    </>
  )
}
