// Loads one file of functions, says which it exports, and carries calls of them out.
//
// Standard input brings a call in each line, {"n": NUMBER, "call": NAME, "args": {…}, "order": […] | null,
// "session": {…}}; standard output gives {"log": LINE} as often as something is printed, and one
// of {"returns": VALUE}, {"raises": {…}} or {"unfit": TEXT}, with the n of its call. It begins with {"exports": […]} or
// {"broken": {…}}.
import { spawnSync } from 'node:child_process'
import fs from 'node:fs'
import path from 'node:path'
import { pathToFileURL } from 'node:url'
import { format } from 'node:util'

const file = path.resolve(process.argv.at(-1))
const folder = path.dirname(file)
function put(text) {
  let data = Buffer.from(text + '\n')
  while (data.length > 0) {
    try {
      data = data.subarray(fs.writeSync(1, data))
    } catch (e) {
      if (e.code !== 'EAGAIN') throw e
    }
  }
}
const tell = (message) => put(JSON.stringify(message))

const most = 64 << 10 // letters of a call that are told
let rest = ''
let room = most
const take = (text) => {
  if (room < 0) return
  room -= text.length
  if (room < 0) text = text.slice(0, 2000) + '\n… what was printed after this is not kept\n'
  const lines = (rest + text).split('\n')
  rest = lines.pop().slice(-4000)
  for (const line of lines) tell({ log: line.slice(0, 4000) })
}
const end = () => {
  if (rest) take('\n')
}
for (const stream of ['stdout', 'stderr'])
  Object.defineProperty(process[stream], 'write', {
    value: (chunk, encoding, done) => {
      take(typeof chunk === 'string' ? chunk : Buffer.from(chunk).toString())
      const then = typeof encoding === 'function' ? encoding : done
      if (then) then()
      return true
    },
  })
for (const how of ['log', 'info', 'debug', 'warn', 'error', 'trace']) console[how] = (...values) => take(format(...values) + '\n')

function told(e) {
  const stack = String(e?.stack ?? '')
  let at = ['', 0]
  for (const line of stack.split('\n')) {
    const m = /(?:file:\/\/)?(\/[^():]*):(\d+)(?::\d+)?\)?$/.exec(line.trim())
    if (m && path.dirname(decodeURI(m[1])) === folder) {
      at = [path.basename(decodeURI(m[1])), Number(m[2])]
      break
    }
  }
  const say = e instanceof Error ? `${e.name}: ${e.message}` : 'it threw ' + format('%o', e)
  const missing = /Cannot find (?:package|module) '([^']+)'/.exec(say)
  return { say: say.split('\n')[0].slice(0, 2000), file: at[0], line: at[1], trace: stack.split('\n').filter((l) => !/\[eval|node:internal/.test(l)).join('\n').replaceAll('file://', '').replaceAll(folder + '/', '').slice(0, 8000), not_done: e?.not_done === true || e?.notDone === true, missing: missing ? missing[1] : '' }
}

class Exit extends Error {}
process.exit = (code) => {
  throw new Exit(`it called process.exit(${code ?? ''})`)
}
process.reallyExit = process.exit
const broke = (e) => (e instanceof Exit ? { ...told(e), say: e.message } : told(e))

function unfit(v, at = 'result', above = []) {
  if (v === null || v === undefined || typeof v === 'string' || typeof v === 'boolean') return ''
  if (typeof v === 'number') return Number.isFinite(v) ? '' : `${at} is ${v}, which JSON has not`
  if (typeof v === 'bigint') return `${at} is a bigint, which JSON has not`
  if (typeof v === 'function' || typeof v === 'symbol') return `${at} is a ${typeof v}, which JSON has not`
  if (above.includes(v)) return `${at} is within itself`
  if (v instanceof Map || v instanceof WeakMap) return `${at} is a ${v.constructor.name}, which JSON has not: use an object`
  if (ArrayBuffer.isView(v) || v instanceof ArrayBuffer) return `${at} is bytes, which JSON has not`
  if (typeof v.toJSON === 'function') {
    try {
      return unfit(v.toJSON(), at, [...above, v])
    } catch (e) {
      return `${at} cannot be written as JSON: ${e.message}`
    }
  }
  for (const [k, x] of v instanceof Set ? [...v].entries() : Object.entries(v)) {
    const bad = unfit(x, Array.isArray(v) ? `${at}[${k}]` : `${at}.${k}`, [...above, v])
    if (bad) return bad
  }
  return ''
}
const plain = (key, v) => (v instanceof Set ? [...v] : v)

function sessionOf(given = {}) {
  const s = { state: { ...given.state }, person: given.person ?? '', key: given.key ?? '' }
  const files = []
  s.attach = (name, body, type = '') => void files.push({ name: String(name), type: String(type), body: Buffer.from(body).toString('base64') })
  const changes = () => {
    const out = {}
    for (const [k, v] of Object.entries(s.state)) if (JSON.stringify(v) !== JSON.stringify(given.state?.[k])) out[k] = v
    for (const k of Object.keys(given.state ?? {})) if (!(k in s.state)) out[k] = null
    return out
  }
  return [s, files, changes]
}

let table = {}
async function call(m) {
  room = most
  const [session, files, changes] = sessionOf(m.session)
  let v
  try {
    const args = { ...m.args, _session: session }
    v = m.order ? table[m.call](...m.order.map((n) => args[n])) : table[m.call](args)
    if (typeof v?.then === 'function') v = await v
  } catch (e) {
    end()
    return tell({ n: m.n, raises: broke(e) })
  }
  end()
  const bad = unfit(v)
  if (bad) return tell({ n: m.n, unfit: bad })
  let text
  try {
    text = JSON.stringify({ n: m.n, returns: v ?? null, sets: changes(), files }, plain)
  } catch (e) {
    return tell({ n: m.n, unfit: 'the result, or the state, is not JSON: ' + e.message })
  }
  put(text)
}

const stray = (e) => take('after its call: ' + broke(e).say + '\n')
process.on('unhandledRejection', stray)
process.on('uncaughtException', stray)

// syntax finds the line that cannot be read, which the error does not tell.
function syntax() {
  const { stderr } = spawnSync(process.execPath, [...process.execArgv.filter((a) => a.startsWith('--experimental')), '--check', file], { encoding: 'utf8' })
  const m = /^(?:file:\/\/)?(\/.*):(\d+)/.exec(String(stderr ?? ''))
  return m ? { file: path.basename(decodeURI(m[1])), line: Number(m[2]) } : {}
}

let loaded = false
try {
  const module = await import(pathToFileURL(file))
  const all = { ...(typeof module.default === 'object' ? module.default : {}), ...module }
  if (typeof module.default === 'function' && module.default.name) all[module.default.name] = module.default
  delete all.default
  delete all['module.exports']
  table = Object.fromEntries(Object.entries(all).filter(([k, v]) => typeof v === 'function' && !k.startsWith('_') && !/^class\b/.test(Function.prototype.toString.call(v))))
  loaded = true
} catch (e) {
  end()
  tell({ broken: { ...broke(e), ...(e instanceof SyntaxError ? syntax() : {}) } })
}
if (loaded) {
  end()
  tell({ exports: Object.keys(table) })
  let held = Buffer.alloc(0)
  for await (const chunk of process.stdin) {
    held = held.length ? Buffer.concat([held, chunk]) : chunk
    for (let n; (n = held.indexOf(10)) >= 0; ) {
      const line = held.subarray(0, n)
      held = held.subarray(n + 1)
      await call(JSON.parse(line.toString()))
    }
  }
}
