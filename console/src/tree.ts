// Trees: serialised PHP and JSON as what they hold, to be edited without breaking their form. PHP counts lengths in bytes of UTF-8.

export type Tree =
  | { kind: "text"; value: string }
  | { kind: "number"; value: string; php?: "i" | "d" }
  | { kind: "boolean"; value: boolean }
  | { kind: "null" }
  | { kind: "fixed"; value: string } // what cannot be edited here, such as a reference
  | { kind: "branch"; open: string; items: [Tree, Tree][] } // a, O:8:"stdClass", {, [

const encoder = new TextEncoder()
const decoder = new TextDecoder("utf-8", { fatal: true })

// Reader walks through serialised PHP; whatever it does not know is an exception.
class Reader {
  at = 0
  constructor(readonly bytes: Uint8Array) {}

  until(end: string): string {
    const found = this.bytes.indexOf(end.charCodeAt(0), this.at)
    if (found < 0) throw new Error("cut short")
    const text = decoder.decode(this.bytes.subarray(this.at, found))
    this.at = found + 1
    return text
  }

  expect(text: string) {
    for (const c of text) if (this.bytes[this.at++] !== c.charCodeAt(0)) throw new Error("another form")
  }

  counted(): string {
    const length = Number(this.until(":"))
    this.expect('"')
    const end = this.at + length
    if (!(length >= 0) || end > this.bytes.length) throw new Error("cut short")
    const text = decoder.decode(this.bytes.subarray(this.at, end))
    this.at = end
    this.expect('"')
    return text
  }

  items(): [Tree, Tree][] {
    const count = Number(this.until(":"))
    this.expect("{")
    const items: [Tree, Tree][] = []
    for (let i = 0; i < count; i++) items.push([this.value(), this.value()])
    this.expect("}")
    return items
  }

  value(): Tree {
    const kind = String.fromCharCode(this.bytes[this.at++])
    if (kind === "N") {
      this.expect(";")
      return { kind: "null" }
    }
    this.expect(":")
    switch (kind) {
      case "s": {
        const value = this.counted()
        this.expect(";")
        return { kind: "text", value }
      }
      case "i":
      case "d":
        return { kind: "number", value: this.until(";"), php: kind }
      case "b":
        return { kind: "boolean", value: this.until(";") === "1" }
      case "a":
        return { kind: "branch", open: "a", items: this.items() }
      case "O": {
        const name = this.counted()
        this.expect(":")
        return { kind: "branch", open: `O:${encoder.encode(name).length}:"${name}"`, items: this.items() }
      }
      case "r":
      case "R":
        return { kind: "fixed", value: `${kind}:${this.until(";")};` }
    }
    throw new Error("another form")
  }
}

// ofPHP is the tree of serialised PHP; undefined where a text is none.
export function ofPHP(text: string): Tree | undefined {
  if (!/^(a|O):\d+:/.test(text)) return undefined
  try {
    const reader = new Reader(encoder.encode(text))
    const tree = reader.value()
    return reader.at === reader.bytes.length && toPHP(tree) === text ? tree : undefined
  } catch {
    return undefined
  }
}

export function toPHP(tree: Tree): string {
  switch (tree.kind) {
    case "text":
      return `s:${encoder.encode(tree.value).length}:"${tree.value}";`
    case "number":
      return `${tree.php ?? "i"}:${tree.value};`
    case "boolean":
      return `b:${tree.value ? 1 : 0};`
    case "null":
      return "N;"
    case "fixed":
      return tree.value
    case "branch":
      return `${tree.open}:${tree.items.length}:{${tree.items.map(([k, v]) => toPHP(k) + toPHP(v)).join("")}}`
  }
}

function ofValue(value: unknown): Tree {
  if (value === null) return { kind: "null" }
  if (typeof value === "string") return { kind: "text", value }
  if (typeof value === "boolean") return { kind: "boolean", value }
  if (typeof value !== "object") return { kind: "number", value: String(value) }
  const items = Object.entries(value).map(([key, each]): [Tree, Tree] => [
    { kind: "text", value: key },
    ofValue(each),
  ])
  return { kind: "branch", open: Array.isArray(value) ? "[" : "{", items }
}

function toValue(tree: Tree): unknown {
  switch (tree.kind) {
    case "null":
      return null
    case "number":
      return Number(tree.value)
    case "branch": {
      const pairs = tree.items.map(([k, v]): [string, unknown] => [
        "value" in k ? String(k.value) : "",
        toValue(v),
      ])
      return tree.open === "[" ? pairs.map(([, v]) => v) : Object.fromEntries(pairs)
    }
    default:
      return tree.value
  }
}

// Form is a text as a tree, and how the tree is written again, in the same form.
export interface Form {
  name: string
  tree: Tree
  write: (tree: Tree) => string
}

// formOf tells what a text holds; undefined where it is just a text, or would not come out of it as it went in.
export function formOf(text: string): Form | undefined {
  const php = ofPHP(text)
  if (php) return { name: "serialised PHP", tree: php, write: toPHP }
  if (!/^\s*[[{]/.test(text)) return undefined
  try {
    const value: unknown = JSON.parse(text)
    for (const space of [undefined, 2, 4, "\t"]) {
      const escaped = (json: string) => (text.includes("\\/") ? json.replaceAll("/", "\\/") : json)
      const write = (tree: Tree) => escaped(JSON.stringify(toValue(tree), null, space))
      if (write(ofValue(value)) === text) return { name: "JSON", tree: ofValue(value), write }
    }
  } catch {
    return undefined
  }
  return undefined
}

// changed is a tree in which the value at a path of places is another.
export function changed(tree: Tree, path: number[], value: Tree): Tree {
  if (path.length === 0 || tree.kind !== "branch") return value
  const [place, ...rest] = path
  return {
    ...tree,
    items: tree.items.map(([k, v], i): [Tree, Tree] => (i === place ? [k, changed(v, rest, value)] : [k, v])),
  }
}
