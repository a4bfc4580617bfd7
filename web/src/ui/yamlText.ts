/**
 * Documents written in YAML (or JSON) that forms change: only what is meant changes in the text, comments and
 * layout stay as they were written. Every change is read again; where the text would say anything else than
 * meant it is written anew.
 */
import {
  Document,
  isAlias,
  isMap,
  isPair,
  isScalar,
  isSeq,
  parseDocument,
  visit,
  type DocumentOptions,
  type Node,
  type ParseOptions,
  type SchemaOptions,
  type YAMLMap,
  type YAMLSeq,
} from 'yaml'
import { same } from './merge'

export type Path = readonly (string | number)[]

/** As the server reads it: no dates, no numbers to the base of 60. */
const LIKE_THE_SERVER: DocumentOptions & SchemaOptions & ParseOptions = {
  version: '1.1',
  merge: true,
  customTags: (tags) =>
    tags.filter(
      (tag) =>
        typeof tag === 'string' ||
        !(
          ('format' in tag && tag.format === 'TIME') ||
          /timestamp|binary|omap|pairs|set$/.test(tag.tag)
        ),
    ),
}
const MOST_ALIASES = 1_000

interface Read {
  doc: Document.Parsed
  data: unknown
}

/** What was read last: a change is made from the text that is shown, and its outcome is shown next. */
const READ = new Map<string, Read | null>()
const REMEMBERED = 3

function read(text: string): Read | null {
  const known = READ.get(text)
  if (known !== undefined) return known
  const found = parsed(text)
  READ.set(text, found)
  for (const old of [...READ.keys()].slice(0, -REMEMBERED)) READ.delete(old)
  return found
}

function parsed(text: string): Read | null {
  const doc = parseDocument(text, LIKE_THE_SERVER)
  if (doc.errors.length) return null
  try {
    return { doc, data: doc.toJS({ maxAliasCount: MOST_ALIASES }) as unknown }
  } catch {
    return null
  }
}

/** What a text says; undefined where it cannot be read. */
export function dataOf(text: string): unknown {
  return read(text)?.data
}

/** The text with `value` at a path; without it where that is undefined. `order` names the fields of the document in the
 * order in which a new one takes its place. */
export function put(
  text: string,
  path: Path,
  value: unknown,
  order: readonly string[] = [],
): string {
  return changed(text, path, value, (found) => {
    const { node, rest } = walk(found.doc, path)
    const key = rest[0]
    if (key === undefined) return replaced(text, found.doc, path, value)
    if (value === undefined) return text
    const whole = rest.slice(1).reduceRight<unknown>((inner, name) => ({ [name]: inner }), value)
    return isMap(node)
      ? added(text, node, String(key), whole, path.length === 1 ? order : [])
      : null
  })
}

/** The text with an item more in a list, before the one that is at `index` now. */
export function insertItem(text: string, list: Path, index: number, value: unknown): string {
  const items = [...itemsAt(text, list)]
  items.splice(index, 0, value)
  return changed(text, list, items, ({ doc }) => {
    const node = doc.getIn(list, true)
    return isSeq(node) && node.items.length ? inserted(text, node, index, value) : null
  })
}

export function removeItem(text: string, list: Path, index: number): string {
  const items = itemsAt(text, list).filter((_, i) => i !== index)
  return changed(text, list, items, ({ doc }) => removed(text, doc, [...list, index]))
}

/** The text with an item at another place, with the comments that stand with it. */
export function moveItem(text: string, list: Path, from: number, to: number): string {
  const items = [...itemsAt(text, list)]
  items.splice(to, 0, ...items.splice(from, 1))
  return changed(text, list, items, ({ doc }) => {
    const node = doc.getIn(list, true)
    if (!isSeq(node) || node.flow) return null
    const chunks = node.items.map((_, i) => chunk(text, node, i))
    if (chunks.some((c) => c === null)) return null
    const [a, b] = [Math.min(from, to), Math.max(from, to)]
    const [first, last] = [chunks[a], chunks[b]]
    if (!first || !last) return null
    const pieces = chunks.slice(a, b + 1).map((c) => ended(text.slice(c?.start, c?.end)))
    pieces.splice(to - a, 0, ...pieces.splice(from - a, 1))
    return text.slice(0, first.start) + pieces.join('') + text.slice(last.end)
  })
}

function itemsAt(text: string, list: Path): unknown[] {
  const found = at(dataOf(text), list)
  return Array.isArray(found) ? found : []
}

export function at(data: unknown, path: Path): unknown {
  return path.reduce<unknown>(
    (inner, key) => (inner as Record<string, unknown> | undefined)?.[key],
    data,
  )
}

/** A change of the text that says what is meant, or the whole written anew. */
function changed(
  text: string,
  path: Path,
  value: unknown,
  edit: (found: Read) => string | null,
): string {
  const found = read(text)
  if (!found) return text
  const wanted = withValue(found.data, path, value)
  if (same(wanted, found.data)) return text
  const made = edit(found)
  if (made !== null && same(dataOf(made), wanted)) return made
  const doc = found.doc.clone()
  if (value === undefined) doc.deleteIn(path)
  else doc.setIn(path, doc.createNode(value))
  const anew = String(doc)
  if (same(dataOf(anew), wanted)) return anew
  return new Document(wanted, LIKE_THE_SERVER).toString()
}

function withValue(data: unknown, path: Path, value: unknown): unknown {
  const [key, ...rest] = path
  if (key === undefined) return value
  const inner = withValue((data as Record<string, unknown> | undefined)?.[key], rest, value)
  if (Array.isArray(data))
    return inner === undefined
      ? data.filter((_, i) => i !== key)
      : data.map((v, i) => (i === key ? inner : v))
  const made = { ...(data as Record<string, unknown> | undefined) }
  if (inner === undefined) delete made[key]
  else made[key] = inner
  return made
}

/** The node at a path as far as there is one, and the rest of the path. */
function walk(doc: Document.Parsed, path: Path): { node: unknown; rest: Path } {
  let node: unknown = doc.contents
  for (const [i, key] of path.entries()) {
    const next: unknown =
      isMap(node) || isSeq(node) ? (node as YAMLMap).get(key as never, true) : undefined
    if (next === undefined || next === null) return { node, rest: path.slice(i) }
    node = next
  }
  return { node, rest: [] }
}

/** The value that is there, made into another: piece by piece where both are alike in shape. */
function replaced(text: string, doc: Document.Parsed, path: Path, value: unknown): string | null {
  if (value === undefined) return removed(text, doc, path)
  const node = doc.getIn(path, true)
  const old = (node as Node | undefined)?.toJS(doc) as unknown
  if (isMap(node) && isObject(old) && isObject(value) && !node.flow) {
    let made = text
    for (const key of new Set([...Object.keys(old), ...Object.keys(value)]))
      if (!same(old[key], value[key])) made = put(made, [...path, key], value[key])
    return made
  }
  if (isSeq(node) && Array.isArray(old) && Array.isArray(value) && old.length === value.length) {
    let made = text
    for (const [i, item] of value.entries())
      if (!same(old[i], item)) made = put(made, [...path, i], item)
    return made
  }
  const range = (node as Node | undefined)?.range
  if (!range || isAlias(node)) return null
  const [start, end] = [range[0], trimmedEnd(text, range[0], range[1])]
  const space = start === end && !/[\s[{,]$/.test(text.slice(0, start)) ? ' ' : ''
  return text.slice(0, start) + space + flow(value, isJson(text)) + text.slice(end)
}

function trimmedEnd(text: string, start: number, end: number): number {
  return start + text.slice(start, end).trimEnd().length
}

function removed(text: string, doc: Document.Parsed, path: Path): string | null {
  const parent = path.length > 1 ? doc.getIn(path.slice(0, -1), true) : doc.contents
  const key = path.at(-1)
  if (!isMap(parent) && !isSeq(parent)) return null
  const index = isMap(parent)
    ? parent.items.findIndex((p) => String(keyOf(p)) === String(key))
    : Number(key)
  const items = parent.items as unknown[]
  if (index < 0 || !parent.range) return null
  if (items.length === 1) {
    const empty = isMap(parent) ? '{}' : '[]'
    const end = trimmedEnd(text, parent.range[0], parent.range[1])
    return text.slice(0, parent.range[0]) + empty + text.slice(end)
  }
  if (!parent.flow) {
    const lines = chunk(text, parent, index)
    return lines && text.slice(0, lines.start) + text.slice(lines.end)
  }
  const spans = items.map(span)
  const [own, next, before] = [spans[index], spans[index + 1], spans[index - 1]]
  if (!own) return null
  if (next) return text.slice(0, own[0]) + text.slice(next[0])
  return before ? text.slice(0, before[1]) + text.slice(own[1]) : null
}

function inserted(text: string, list: YAMLSeq, index: number, value: unknown): string | null {
  const json = isJson(text)
  if (list.flow) {
    const spans = list.items.map(span)
    const [next, last] = [spans[index], spans.at(-1)]
    if (next) return `${text.slice(0, next[0])}${flow(value, json)}, ${text.slice(next[0])}`
    return last ? `${text.slice(0, last[1])}, ${flow(value, json)}${text.slice(last[1])}` : null
  }
  const next = index < list.items.length
  const lines = chunk(text, list, next ? index : list.items.length - 1)
  if (!lines) return null
  const line = `${lines.indent}- ${inBlock(value)}\n`
  if (next) return text.slice(0, lines.start) + line + text.slice(lines.start)
  return ended(text.slice(0, lines.end)) + line + text.slice(lines.end)
}

/** A new field of a map: after the last one that comes before it. */
function added(
  text: string,
  map: YAMLMap,
  key: string,
  value: unknown,
  order: readonly string[],
): string | null {
  const json = isJson(text)
  const spans = map.items.map(span)
  if (map.flow || !map.range) {
    const [last, end] = [spans.at(-1), map.range?.[1]]
    const pair = `${json ? JSON.stringify(key) : key}: ${flow(value, json)}`
    if (last) return `${text.slice(0, last[1])}, ${pair}${text.slice(last[1])}`
    return end === undefined ? null : `${text.slice(0, end - 1)}${pair}${text.slice(end - 1)}`
  }
  const place = order.indexOf(key)
  const before = map.items.findLastIndex(
    (p) => place < 0 || order.indexOf(String(keyOf(p))) < place,
  )
  const lines = chunk(text, map, Math.max(0, before))
  if (!lines) return null
  const pair = block(key, value, lines.indent)
  const apart =
    order.length > 0 && pair.includes('\n', 0) && pair.trimEnd().includes('\n') ? '\n' : ''
  if (before < 0) return text.slice(0, lines.start) + pair + apart + text.slice(lines.start)
  return ended(text.slice(0, lines.end)) + apart + pair + text.slice(lines.end)
}

interface Lines {
  start: number
  end: number
  indent: string
}

/** The lines of an item or field of a block, with the comments right above; null where it shares its first line. */
function chunk(text: string, parent: YAMLMap | YAMLSeq, index: number): Lines | null {
  const item = (parent.items as unknown[])[index]
  const own = item === undefined ? null : span(item)
  if (!own) return null
  let first = own[0]
  if (isSeq(parent)) first = text.lastIndexOf('-', Math.max(0, first - 1))
  let start = text.lastIndexOf('\n', first - 1) + 1
  const indent = text.slice(start, first)
  if (!/^ *$/.test(indent)) return null
  const before = index > 0 ? span((parent.items as unknown[])[index - 1]) : null
  const least = before
    ? lineEnd(text, trimmedEnd(text, before[0], before[1]))
    : isSeq(parent)
      ? 0
      : start
  while (start > least && start > 0) {
    const above = text.lastIndexOf('\n', start - 2) + 1
    if (above < least || !/^\s*#/.test(text.slice(above, start))) break
    start = above
  }
  return { start, end: lineEnd(text, trimmedEnd(text, own[0], own[1])), indent }
}

function lineEnd(text: string, from: number): number {
  const end = text.indexOf('\n', from)
  return end < 0 ? text.length : end + 1
}

/** From where to where an item stands, key included. */
function span(item: unknown): [number, number] | null {
  if (isPair(item)) {
    const [key, value] = [(item.key as Node | null)?.range, (item.value as Node | null)?.range]
    return key ? [key[0], value ? Math.max(value[1], key[1]) : key[1]] : null
  }
  const range = (item as Node | null)?.range
  return range ? [range[0], range[1]] : null
}

function keyOf(pair: unknown): unknown {
  return isPair(pair) ? (isScalar(pair.key) ? pair.key.value : pair.key) : undefined
}

const isJson = (text: string) => /^\s*[{[]/.test(text)
const ended = (text: string) => (text && !text.endsWith('\n') ? `${text}\n` : text)
const isObject = (value: unknown): value is Record<string, unknown> =>
  value !== null && typeof value === 'object' && !Array.isArray(value)

/** A value on one line. */
function flow(value: unknown, json: boolean): string {
  if (json) return JSON.stringify(value)
  const doc = new Document({ v: value }, LIKE_THE_SERVER)
  visit(doc, {
    Collection: (_, node) => void (node !== doc.contents && (node.flow = true)),
    Scalar: (_, node) => void (/[\n\r]/.test(String(node.value)) && (node.type = 'QUOTE_DOUBLE')),
  })
  const text = doc.toString({ lineWidth: 0, flowCollectionPadding: false }).trimEnd()
  return text.slice('v: '.length)
}

/** An item of a list on one line: what has one field is written without brackets. */
function inBlock(value: unknown): string {
  const fields = isObject(value) ? Object.entries(value) : []
  const [key, inner] = fields[0] ?? []
  if (fields.length !== 1 || key === undefined || !/^[a-z_]+$/i.test(key)) return flow(value, false)
  return `${key}: ${flow(inner, false)}`
}

/** A field on lines of its own: lists with an item a line, long text as it is. */
function block(key: string, value: unknown, indent: string): string {
  const doc = new Document({ [key]: value }, LIKE_THE_SERVER)
  visit(doc, {
    Collection(_, node, path) {
      const inList = path.some((p) => isSeq(p))
      const ofObjects = isSeq(node) && node.items.some((i) => isMap(i))
      const oneField = isMap(node) && node.items.length === 1 && isSeq(path.at(-1))
      node.flow = node !== doc.contents && !oneField && (inList ? !hasLists(node) : !ofObjects)
    },
  })
  const text = doc.toString({ lineWidth: 0, flowCollectionPadding: false })
  return text.replace(/^(?=.)/gm, indent)
}

function hasLists(node: unknown): boolean {
  if (!isMap(node)) return isSeq(node) && node.items.some((i) => isMap(i))
  return node.items.some((p) => isPair(p) && isSeq(p.value) && p.value.items.some((i) => isMap(i)))
}
