import { expect, test } from "vitest"
import { changed, formOf, ofPHP, toPHP, type Tree } from "./tree"

const options = 'a:3:{s:5:"hours";s:11:"kilenc óra";i:7;a:2:{i:0;b:1;i:1;N;}s:4:"rate";d:0.5;}'

test("serialised PHP keeps its lengths, in bytes", () => {
  const form = formOf(options)
  expect(form?.name).toBe("serialised PHP")
  const next = changed(form?.tree as Tree, [0], { kind: "text", value: "nyolc óra, űrhajó" })
  expect(form?.write(next)).toBe(
    'a:3:{s:5:"hours";s:20:"nyolc óra, űrhajó";i:7;a:2:{i:0;b:1;i:1;N;}s:4:"rate";d:0.5;}',
  )
  const inside = changed(form?.tree as Tree, [1, 0], { kind: "boolean", value: false })
  expect(form?.write(inside)).toContain("a:2:{i:0;b:0;i:1;N;}")
})

test("objects and references come out as they went in", () => {
  const text = 'O:8:"stdClass":2:{s:1:"a";O:6:"Garden":1:{s:7:"\0*\0beds";i:3;}s:1:"b";r:2;}'
  expect(toPHP(ofPHP(text) as Tree)).toBe(text)
})

test("what is no tree stays a text", () => {
  for (const text of [
    "",
    "a garden",
    'a:1:{s:5:"hours";s:9:"kilenc óra";}', // a length that is wrong
    "a:2:{i:0;i:1;}",
    options + "x",
    'C:11:"ArrayObject":2:{x}',
    "[1, 2",
    "{broken}",
    '{"id":12345678901234567890}', // a number that JavaScript does not hold
    '{"a":1,"a":2}',
  ])
    expect(formOf(text), text).toBeUndefined()
})

test("JSON is written in the form that it had", () => {
  for (const text of [
    '{"a":[1,null,true,"x"]}',
    '{\n  "a": "b"\n}',
    '{"url":"http:\\/\\/reed.localhost\\/"}',
  ]) {
    const form = formOf(text)
    expect(form?.write(form.tree)).toBe(text)
  }
})
