// New site: a row of the fleet that unfolds. As the name is typed, everything that follows from it appears and can be changed in place.
import type { FormEvent } from "react"
import { answer, api, queries, Refusal, told } from "./api"
import { NameField } from "./Field"
import { MoreFields } from "./NewSiteFields"
import { asDefaults, fieldsOf, origins, shownFields, useForm, type Form } from "./NewSiteForm"
import { Button, Notice, Word } from "./ui"

export function NewSite({ archive, onClose }: { archive?: string; onClose: () => void }) {
  const asked = useForm(archive)
  const form: Form = { ...asked, ...fieldsOf(asked) }
  const { request, named, incomplete, problems, sending, setSending, setRefused, setFault, setKept, fault } =
    form
  const create = async (event: FormEvent) => {
    event.preventDefault()
    if (!named || incomplete || problems.length > 0 || sending) return
    setSending(true)
    try {
      await answer(api.POST("/api/v1/sites", { body: { sites: [request] } }))
      await queries.invalidateQueries()
      onClose()
    } catch (error) {
      setSending(false)
      if (error instanceof Refusal && error.problems.length) setRefused(error.problems)
      else setFault(told(error))
    }
  }
  const keep = async () => {
    try {
      await answer(api.PUT("/api/v1/defaults", { body: { settings: asDefaults(request) } }))
      setKept(true)
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <form
      onSubmit={create}
      onKeyDown={(e) => e.key === "Escape" && onClose()}
      aria-label="New site"
      className="border-b border-line-strong border-l-4 border-l-accent bg-sheet px-5 pb-5 pt-4"
    >
      <Head form={form} onClose={onClose} />
      {fault && <Notice tone="fail">{fault}</Notice>}
      <MadeOf form={form} />
      <OriginFields form={form} />
      <MainFields form={form} />
      {(problems.some((p) => p.weak) || request.force_weak) && (
        <label className="mt-2 flex items-baseline gap-2 text-[13px]">
          <input
            type="checkbox"
            name="force_weak"
            className="translate-y-0.5 accent-(--accent)"
            checked={request.force_weak ?? false}
            onChange={(e) => form.edit({ force_weak: e.target.checked || undefined })}
          />
          Make it all the same: it is easily guessed, and never to go live
        </label>
      )}
      {form.more && <MoreFields form={form} />}
      {problems
        .filter((p) => !shownFields.includes(p.field))
        .map((p) => (
          <p key={p.field + p.message} role="alert" className="mt-2 text-[13px] text-fail">
            {p.field}: {p.message}; {p.remedy}
          </p>
        ))}
      <p className="mt-4 flex flex-wrap gap-x-5 text-[13px] text-soft">
        <Word aria-expanded={form.more} onClick={() => form.setMore(!form.more)}>
          {form.more ? "Fewer choices" : "All choices"}
        </Word>
        <Word onClick={keep} disabled={form.kept}>
          {form.kept ? "These are the defaults now" : "Make these my defaults"}
        </Word>
        <span>
          What is printed grey follows from the name; write over any of it. Enter makes the site, Escape
          closes.
        </span>
      </p>
    </form>
  )
}

// Head asks for the name, and says what becomes of it.
function Head({ form, onClose }: { form: Form; onClose: () => void }) {
  const { request, of, change, would, named, incomplete, problems, sending, preview, settled } = form
  return (
    <div className="flex flex-wrap items-end gap-x-6 gap-y-2">
      <NameField value={request.name} problem={of("name")} onChange={(v) => change("name", v)} />
      <div className="min-w-0 grow pb-1">
        <p className="truncate text-[22px] font-semibold">
          {would?.title ?? <span className="text-faint">Its title</span>}
        </p>
        <p className="truncate font-mono text-[13px] text-soft">
          {would ? would.url : "http://name.localhost/"}
        </p>
      </div>
      <div className="flex items-center gap-4 pb-1">
        <Word onClick={onClose} className="text-soft">
          Close
        </Word>
        <Button
          type="submit"
          tone="strong"
          disabled={
            !named ||
            incomplete ||
            problems.length > 0 ||
            sending ||
            preview.isPlaceholderData ||
            settled !== request
          }
        >
          Make this site
        </Button>
      </div>
    </div>
  )
}

// MadeOf says of what the site is made.
function MadeOf({ form }: { form: Form }) {
  const { definitions, cms, origin, madeOf } = form
  return (
    <fieldset className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-1">
      <legend className="sr-only">Made of</legend>
      <span className="text-[13px] text-soft">Made of</span>
      {definitions.map((k) => (
        <label key={k.name} title={k.about} className="flex items-center gap-1.5">
          <input
            type="radio"
            name="made-of"
            className="accent-(--accent)"
            checked={origin === undefined && cms?.name === k.name}
            onChange={() => madeOf(undefined, k.name)}
          />{" "}
          {k.title}
        </label>
      ))}
      {origins.map(([id, label]) => (
        <label key={id} className="flex items-center gap-1.5">
          <input
            type="radio"
            name="made-of"
            value={id}
            className="accent-(--accent)"
            checked={origin === id}
            onChange={() => madeOf(id)}
          />{" "}
          {label}
        </label>
      ))}
    </fieldset>
  )
}

// OriginFields are those of an origin that needs further words.
function OriginFields({ form }: { form: Form }) {
  const { origin, stencils, sites, input, choice, preview } = form
  if (!origin) return null
  return (
    <div className="mt-3 grid md:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-7">
      {origin === "stencil" &&
        choice(
          "stencil",
          stencils.length ? "Which stencil" : "There are no stencils yet: save a site as one on its page",
          [
            ["", "choose…"],
            ...stencils.map((s): [string, string] => [s.name, `${s.name}, ${s.cms.name} ${s.cms.version}`]),
          ],
        )}
      {origin === "copy_of" &&
        choice("copy_of", "Which site", [
          ["", "choose…"],
          ...sites.map((s): [string, string] => [s.name, `${s.name}, ${s.cms.name} ${s.cms.version}`]),
        ])}
      {origin === "archive" &&
        input(
          "archive",
          "Archive on this machine (.zip, .tar.gz, .tar.zst); one on yours can be dropped on this page",
          "/home/ines/downloads/cms-2.1.zip",
        )}
      {origin === "adopt" &&
        input("adopt", "Folder on this machine, used where it stands", "/home/ines/sites/old-one")}
      {(origin === "archive" || origin === "adopt") &&
        input("sql", "A dump to load, if there is one", "none")}
      {origin === "archive" &&
        (form.of("archive") || form.request.dump) &&
        input("dump", "Which dump in it, where it holds several", "none named")}
      <p className="col-span-2 mt-1 text-[13px] text-soft">
        {
          {
            stencil:
              "Its files and content, with a title, administrator, password, secrets and table prefix of the new site's own.",
            copy_of:
              "Its files and content as they are now, re-addressed, with an administrator and secrets of its own. The site itself is not touched.",
            archive:
              "A parcel becomes a site with what it holds, and a release of a CMS that Vessik knows a site of it. Any other is unpacked as it is, and its own installer asks for the database, which stands on the site's page.",
            adopt:
              "Nothing is copied. Only its configuration is changed, to name the site's own database, and given back when the site is retired.",
          }[origin]
        }
        {origin === "archive" && preview.data?.plans[0]?.holds && (
          <span className="block text-ink">It holds {preview.data.plans[0].holds}.</span>
        )}
        {origin === "adopt" &&
          (preview.data?.plans[0]?.changes ?? []).map((c) => (
            <code key={c} className="block font-mono">
              {c}
            </code>
          ))}
      </p>
    </div>
  )
}

// MainFields are those that most people look at.
function MainFields({ form }: { form: Form }) {
  const { origin, cms, would, input, choice, engine } = form
  return (
    <div className={`mt-4 grid grid-cols-4 gap-x-7 gap-y-4`}>
      {input("title", "Title", would?.title)}
      {origin !== "adopt" && origin !== "archive"
        ? input("administrator.name", "Administrator", would?.administrator.name)
        : input("group", "Group", "none")}
      {engine("php", "PHP", "php", would?.stack.php.engine)}
      {origin === undefined && cms && cms.versions.length > 1
        ? choice(
            "cms_version",
            cms.title,
            [...cms.versions, "newest"].map((v) => [v, v]),
            would?.cms.version,
          )
        : engine("web", "Web server", "web", would?.stack.web.engine)}
    </div>
  )
}
