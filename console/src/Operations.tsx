import { Link } from "wouter"
import { answer, api, of, queries, useOperations, type Operation } from "./api"
import { useLive } from "./live"
import { Mono, Notice, Word } from "./ui"

const took = (o: Operation) =>
  o.finished_at ? `${((Date.parse(o.finished_at) - Date.parse(o.created_at)) / 1000).toFixed(2)} s` : ""

export function Operations() {
  const operations = useOperations()
  const live = useLive()
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Operations</h1>
      <p className="mb-4 text-soft">
        Everything that was and is being done, the newest first, with the steps of each.
      </p>
      {operations.isError && <Notice tone="fail">{operations.error.message}</Notice>}
      {operations.data?.length === 0 && <Notice>Nothing has been done yet.</Notice>}
      <ol className="space-y-px">
        {operations.data?.map((o) => (
          <li key={o.id} className="border-t border-line">
            <details open={o.state === "running" || o.state === "failed"} className="group py-2">
              <summary className="grid cursor-pointer lg:grid-cols-[3rem_6rem_7rem_12rem_6rem_1fr] items-baseline gap-3">
                <Mono className="text-soft">{o.id}</Mono>
                <b className="font-semibold">{o.kind}</b>
                <span
                  className={
                    o.state === "failed"
                      ? "font-semibold text-fail"
                      : o.state === "running"
                        ? "text-accent"
                        : ""
                  }
                >
                  {o.state}
                </span>
                <Mono className="text-soft">{new Date(o.created_at).toLocaleString("sv")}</Mono>
                <Mono>{took(o)}</Mono>
                <span className="truncate">{o.sites.map((s) => s.site).join(", ")}</span>
              </summary>
              <div className="mb-2 ml-[3.75rem] mt-2 space-y-2">
                {o.state === "running" && (
                  <Word
                    onClick={() =>
                      answer(api.POST("/api/v1/operations/{id}/cancel", of({ id: o.id }))).then(() =>
                        queries.invalidateQueries(),
                      )
                    }
                  >
                    Cancel, and take back what was begun
                  </Word>
                )}
                {o.sites.map((s) => (
                  <div key={s.site}>
                    <Link
                      href={`/sites/${s.site}`}
                      className="font-medium underline decoration-line-strong underline-offset-4"
                    >
                      {s.site}
                    </Link>{" "}
                    <span className="text-soft">
                      {live.get(s.site)?.operation === o.id ? live.get(s.site)?.text : s.state}
                    </span>
                    {s.problem && (
                      <p className="border-l-4 border-fail bg-fail-wash px-3 py-1">{s.problem}</p>
                    )}
                    <p className="font-mono text-[12.5px] text-soft">
                      {s.steps.map((step) => (
                        <span
                          key={step.step}
                          className={`mr-4 inline-block ${step.state === "failed" ? "text-fail" : ""}`}
                        >
                          {step.title} {step.state === "done" ? `${step.milliseconds} ms` : step.state}
                        </span>
                      ))}
                    </p>
                  </div>
                ))}
              </div>
            </details>
          </li>
        ))}
      </ol>
    </>
  )
}
