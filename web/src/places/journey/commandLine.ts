/** A step from a pasted `curl` command line, as browsers copy it. */
import type { StepDoc } from './document'

/** Headers a browser adds to every request by itself; users send their own. */
const LEFT_OUT =
  /^(host|content-length|connection|accept-encoding|user-agent|cookie|sec-.*|upgrade-insecure-requests|priority|te|pragma|cache-control|referer|origin)$/i

/** The words of a command line, quotes and line continuations understood. */
export function words(line: string): string[] {
  const found: string[] = []
  const pattern =
    /\$'((?:[^'\\]|\\.)*)'|'([^']*)'|"((?:[^"\\]|\\.)*)"|\\(?:\r?\n|(.))|(\s+)|([^\s'"\\$]+|\$)/gs
  let word: string | null = null
  for (const [, ansi, single, double, escaped, space, plain] of line.matchAll(pattern)) {
    if (space !== undefined) {
      if (word !== null) found.push(word)
      word = null
      continue
    }
    const part =
      ansi !== undefined
        ? unescaped(ansi)
        : (single ?? double?.replace(/\\(["\\$`])/g, '$1') ?? escaped ?? plain ?? null)
    if (part !== null) word = (word ?? '') + part
  }
  if (word !== null) found.push(word)
  return found
}

function unescaped(text: string): string {
  const known: Record<string, string> = { n: '\n', r: '\r', t: '\t' }
  return text.replace(/\\(u[0-9a-fA-F]{4}|.)/g, (_, code: string) =>
    code.startsWith('u') && code.length === 5
      ? String.fromCharCode(parseInt(code.slice(1), 16))
      : (known[code] ?? code),
  )
}

/** The step of a command line, or in words why there is none. */
export function stepFrom(line: string, name: string): StepDoc | string {
  const [program, ...rest] = words(line.trim())
  if (program !== 'curl') return 'It does not begin with “curl”.'
  let method = ''
  let address = ''
  const headers: Record<string, string> = {}
  const data: string[] = []
  let redirects = false
  for (let i = 0; i < rest.length; i += 1) {
    const word = rest[i] ?? ''
    const value = () => rest[(i += 1)] ?? ''
    if (word === '-X' || word === '--request') method = value()
    else if (word === '-H' || word === '--header') {
      const [head, ...tail] = value().split(':')
      if (head && !LEFT_OUT.test(head.trim())) headers[head.trim()] = tail.join(':').trim()
    } else if (/^(-d|--data(-raw|-binary|-ascii|-urlencode)?)$/.test(word)) data.push(value())
    else if (word === '-L' || word === '--location') redirects = true
    else if (word === '-I' || word === '--head') method = 'HEAD'
    else if (word === '--url') address = value()
    else if (
      /^(-b|--cookie|-A|--user-agent|-e|--referer|-o|--output|-u|--user|-m|--max-time)$/.test(word)
    )
      value()
    else if (!word.startsWith('-')) address = word
  }
  let url: URL
  try {
    url = new URL(address)
  } catch {
    return `${address ? `“${address}” is no address` : 'It has no address'}.`
  }
  const body = data.join('&')
  const step: StepDoc = {
    name,
    request: `${method || (data.length ? 'POST' : 'GET')} ${url.pathname}${url.search}`,
    ...(redirects ? { redirects: true } : {}),
  }
  const type = Object.entries(headers).find(([head]) => head.toLowerCase() === 'content-type')
  if (data.length && type?.[1].includes('json')) {
    try {
      step.json = JSON.parse(body)
      delete headers[type[0]]
    } catch {
      step.body = body
    }
  } else if (data.length && (!type || type[1].includes('x-www-form-urlencoded'))) {
    step.form = Object.fromEntries(new URLSearchParams(body))
    if (type) delete headers[type[0]]
  } else if (data.length) step.body = body
  if (Object.keys(headers).length) step.headers = headers
  return step
}
