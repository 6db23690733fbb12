// The further choices for a new site: its content, address, stack and finishing touches.
import { Input, Part } from "./Field"
import type { Form } from "./NewSiteForm"

// MoreFields are all the others.
export const MoreFields = ({ form }: { form: Form }) => (
  <div>
    <ContentFields form={form} />
    <AddressFields form={form} />
    <StackFields form={form} />
    <Touches form={form} />
  </div>
)

// ContentFields are of what is in the site.
function ContentFields({ form }: { form: Form }) {
  const { cms, input, choice, request, edit, defaultOf } = form
  return (
    <Part title="Content">
      {cms && cms.languages.length > 1
        ? choice("language", "Language", [
            ["", `${cms.languages[0]}, its own`],
            ...cms.languages.slice(1).map((l): [string, string] => [l, l]),
          ])
        : input("language", "Language", cms?.name === "wordpress" ? "en_US; others are fetched" : "its own")}
      {input("time_zone", "Time zone", defaultOf("time_zone") || "UTC")}
      <label className="flex items-center gap-2 self-end pb-1">
        <input
          type="checkbox"
          className="accent-(--accent)"
          checked={request.search_engines ?? false}
          onChange={(e) => edit({ search_engines: e.target.checked || undefined })}
        />{" "}
        Search engines may list it
      </label>
      <OfTheShelf form={form} kind="plugin" />
      <OfTheShelf form={form} kind="theme" />
    </Part>
  )
}

// OfTheShelf are plugins or themes that are kept on this machine.
function OfTheShelf({ form, kind }: { form: Form; kind: "plugin" | "theme" }) {
  const { request, edit, shelf, cms } = form
  const field = kind === "plugin" ? "plugins" : "themes"
  const there = shelf
    .filter((i) => i.kind === kind && i.cms === cms?.name && !i.fault)
    .map((i) => i.name)
    .filter((n, i, all) => all.indexOf(n) === i)
  return (
    there.length > 0 && (
      <fieldset key={kind} className="col-span-2 min-w-0">
        <legend className="text-[13px] text-soft">
          {kind === "plugin"
            ? "Plugins of the shelf, active from the start"
            : "Themes of the shelf; the first is the active one"}
        </legend>
        <div className="flex flex-wrap gap-x-5">
          {there.map((name) => (
            <label key={name} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                name={`${kind}-${name}`}
                className="accent-(--accent)"
                checked={request[field]?.includes(name) ?? false}
                onChange={(e) =>
                  edit({
                    [field]: e.target.checked
                      ? [...(request[field] ?? []), name]
                      : request[field]?.filter((x) => x !== name),
                  })
                }
              />{" "}
              {name}
            </label>
          ))}
        </div>
      </fieldset>
    )
  )
}

// AddressFields are of where the site is.
function AddressFields({ form }: { form: Form }) {
  const { origin, cms, request, would, of, edit, input, choice, defaultOf } = form
  return (
    <Part title="Address and folder">
      {input("domain", "Domain", would?.domain)}
      <Input
        label="Further domains"
        value={(request.domains ?? []).join(" ")}
        usual="none"
        problem={of("domains")}
        onChange={(v) =>
          edit({ domains: v.split(/[ ,]+/).filter(Boolean).length ? v.split(/[ ,]+/) : undefined })
        }
      />
      {input("port", "Own port", would?.port || "")}
      {choice("https", "Answers over", [
        ["", defaultOf("https") === "on" ? "https, as usual" : "http, as usual"],
        ["on", "https alone"],
        ["off", "http"],
      ])}
      {choice("outgoing", "May ask other machines", [
        [
          "",
          `${{ open: "anything", closed: "nothing" }[defaultOf("outgoing")] ?? "HTTP and HTTPS"}, as usual`,
        ],
        ["web", "HTTP and HTTPS"],
        ["open", "anything"],
        ["closed", "nothing: it works offline"],
      ])}
      {input("folder", "Folder", would?.folder)}
      {input("group", "Group", defaultOf("group") || "none")}
      {origin === undefined &&
        (cms?.networks.length ?? 0) > 0 &&
        choice("network", "Sites in it", [
          ["", "one"],
          ...(cms?.networks ?? []).map((m): [string, string] => [
            m,
            m === "folders" ? "several, by sub-folder" : "several, by sub-domain",
          ]),
        ])}
      {request.network && (
        <Input
          label="Sub-sites made at once"
          value={(request.sub_sites ?? []).join(" ")}
          usual="none, such as north south"
          problem={of("sub_sites")}
          onChange={(v) =>
            edit({ sub_sites: v.split(/[ ,]+/).filter(Boolean).length ? v.split(/[ ,]+/) : undefined })
          }
        />
      )}
      {request.network && (
        <p className="self-end pb-1 text-[13px] text-soft">
          {request.network === "folders"
            ? `${would?.url ?? "http://name.localhost/"}north/`
            : (would?.url ?? "http://name.localhost/").replace("//", "//north.")}
        </p>
      )}
    </Part>
  )
}

// StackFields are of who signs in and what the site runs on.
function StackFields({ form }: { form: Form }) {
  const { would, input, engine } = form
  return (
    <Part title="Administrator, engines, database">
      {input("administrator.mail", "Mail address", would?.administrator.mail)}
      {input("administrator.password", "Password", "generated, 28 characters", { type: "password" })}
      {engine("web", "Web server", "web", would?.stack.web.engine)}
      {engine("database", "Database server", "database", would?.stack.database.engine)}
      {input("database_name", "Database", would?.database.name)}
      {input("database_user", "Database user", would?.database.user)}
      {input("prefix", "Table prefix", "generated, such as k3xw_")}
    </Part>
  )
}

// Touches are applied before the site starts.
function Touches({ form }: { form: Form }) {
  const { origin, cms, request, edit } = form
  const touches = request.finishing_touches ?? []
  if (origin !== undefined || !cms?.finishing_touches.length) return null
  return (
    <Part title="Finishing touches, applied before it starts">
      <div className="col-span-4 grid grid-cols-2 gap-x-7 gap-y-0.5">
        {cms?.finishing_touches.map((t) => {
          const asked = touches.find((x) => x.split("=")[0] === t.name)
          const put = (value?: string) =>
            edit({
              finishing_touches: [
                ...touches.filter((x) => x !== asked),
                ...(value === undefined ? [] : [t.value ? `${t.name}=${value}` : t.name]),
              ],
            })
          return (
            <div key={t.name} className="flex min-w-0 items-baseline gap-2">
              <label className="flex min-w-0 items-baseline gap-2">
                <input
                  type="checkbox"
                  name={"touch-" + t.name}
                  className="translate-y-0.5 accent-(--accent)"
                  checked={asked !== undefined}
                  onChange={(e) => put(e.target.checked ? (t.example ?? "") : undefined)}
                />{" "}
                {t.about || t.name}
                {t.own && <span className="text-[13px] text-soft">(your own)</span>}
              </label>
              {t.value && asked !== undefined && (
                <input
                  aria-label={t.value}
                  title={t.value}
                  value={asked.slice(t.name.length + 1)}
                  onChange={(e) => put(e.target.value)}
                  className="min-w-0 grow border-b border-line-strong bg-transparent font-mono text-[13px]"
                />
              )}
            </div>
          )
        })}
      </div>
    </Part>
  )
}
