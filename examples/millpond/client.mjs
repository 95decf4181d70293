// A headless client of Millpond. It reads control lines from standard input
// (docs/driving.md) and prints trace lines of what it would show.
//
//   node client.mjs --host 127.0.0.1 --port 7500 --name fern [--faults NAME,...]
//
// The mistakes it can make:
//   counts-twice  it counts an eaten crumb itself, beside what the server says
//   old-client    it speaks an earlier version of the protocol, and waits for ever
//   silent        it prints no trace lines

import net from 'node:net'
import readline from 'node:readline'
import { parseArgs } from 'node:util'
import { Trace } from './zwtrace.mjs'

const { values: options } = parseArgs({
  options: {
    host: { type: 'string', default: '127.0.0.1' },
    port: { type: 'string', default: '7500' },
    name: { type: 'string', default: 'fern' },
    faults: { type: 'string', default: '' },
  },
})
const faults = new Set(options.faults.split(','))
const behind = 0.12 // seconds that others are shown behind the newest picture, so that there are two to go between

const trace = new Trace(line => faults.has('silent') || process.stdout.write(line))
const began = performance.now()
const now = () => (performance.now() - began) / 1000
const log = text => console.error(text)

let socket = null
let inside = false
let crumbs = new Map()
let ducks = new Map() // name -> {pictures: [{t, x, y, heading, score}], more}
let offset = null // the server's clock less ours, of the quickest answer
let quickest = Infinity
let newest = 0

function join() {
  if (socket) return
  crumbs = new Map()
  ducks = new Map()
  inside = false
  socket = net.connect(Number(options.port), options.host, () => {
    socket.setNoDelay(true)
    log('connected')
    send({ type: 'hello', version: faults.has('old-client') ? 1 : 2, name: options.name })
  })
  let rest = ''
  socket.on('data', data => {
    const lines = (rest + data).split('\n')
    rest = lines.pop()
    for (const line of lines) receive(JSON.parse(line))
  })
  socket.on('error', problem => log(`connection: ${problem.message}`))
  socket.on('close', () => {
    log('connection closed')
    if (inside) trace.left(now(), options.name)
    inside = false
    socket = null
  })
}

function leave() {
  if (!socket) return
  send({ type: 'bye' })
  socket.end()
}

function send(message) {
  if (socket && !socket.destroyed) socket.write(JSON.stringify(message) + '\n')
}

function receive(message) {
  switch (message.type) {
    case 'welcome':
      inside = true
      trace.joined(now(), options.name, `duck/${options.name}`)
      log('in the pond')
      for (const c of message.crumbs) crumbs.set(c.id, c)
      break
    case 'crumb':
      crumbs.set(message.id, message)
      break
    case 'eaten':
      crumbs.delete(message.id)
      trace.event(now(), 'eaten', { id: message.id, entity: `crumb/${message.id}`, by: message.by })
      if (faults.has('counts-twice') && ducks.has(message.by)) ducks.get(message.by).more++
      break
    case 'quack':
      trace.event(now(), 'quack', { id: message.id, entity: `duck/${message.by}`, by: message.by })
      break
    case 'left':
      ducks.delete(message.name)
      break
    case 'pong': {
      const ping = now() - message.sent
      trace.clock(now(), ping, message.t)
      if (ping < quickest) {
        quickest = ping
        offset = message.t + ping / 2 - now()
      }
      break
    }
    case 'state':
      newest = message.t
      for (const [name, x, y, heading, score] of message.ducks) {
        if (!ducks.has(name)) ducks.set(name, { pictures: [], more: 0 })
        const pictures = ducks.get(name).pictures
        pictures.push({ t: message.t, x, y, heading, score })
        if (pictures.length > 40) pictures.shift()
      }
      break
  }
}

// Where a duck is shown: between the pictures around a moment of the server's time.
function between(pictures, moment) {
  let i = pictures.length - 1
  while (i > 0 && pictures[i].t > moment) i--
  const a = pictures[i]
  const b = pictures[i + 1]
  if (!b || a.t > moment) return a
  const share = (moment - a.t) / (b.t - a.t)
  const turn = ((b.heading - a.heading + 540) % 360) - 180
  return { x: a.x + (b.x - a.x) * share, y: a.y + (b.y - a.y) * share, heading: (a.heading + turn * share + 360) % 360, score: a.score }
}

function speak() {
  if (!inside || newest === 0) return
  const moment = (offset === null ? newest : now() + offset - quickest / 2) - behind
  trace.begin(now())
  for (const [name, { pictures, more }] of ducks) {
    const own = name === options.name
    const shown = own ? pictures.at(-1) : between(pictures, moment)
    trace.set(`duck/${name}`, 'x', shown.x)
    trace.set(`duck/${name}`, 'y', shown.y)
    trace.set(`duck/${name}`, 'heading', shown.heading)
    trace.set(`duck/${name}`, 'score', shown.score + more)
  }
  for (const [id, c] of crumbs) {
    trace.set(`crumb/${id}`, 'x', c.x)
    trace.set(`crumb/${id}`, 'y', c.y)
  }
  trace.end()
}

function obey(line) {
  switch (line.do) {
    case 'join':
      return join()
    case 'leave':
      return leave()
    case 'input':
      return send({ type: 'keys', move: line.move ?? 0, turn: line.turn ?? 0 })
    case 'press':
      if (line.input === 'quack') send({ type: 'quack' })
      return
    case 'stop':
      leave()
      log('told to stop')
      setTimeout(() => process.exit(0), 50)
  }
}

readline.createInterface({ input: process.stdin }).on('line', text => obey(JSON.parse(text)))
setInterval(speak, 50)
setInterval(() => inside && send({ type: 'ping', sent: now() }), 400)
