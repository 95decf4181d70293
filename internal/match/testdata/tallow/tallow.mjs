// Tallow in JavaScript: UDP, timers, random numbers.
import dgram from 'node:dgram'
const [role, ...a] = process.argv.slice(2)
const s = dgram.createSocket('udp4')
if (role === 'server') {
	const people = new Map()
	let tick = 0
	s.on('message', (text, from) => { if (!people.has(from.port)) console.log(`${text} came`); people.set(from.port, String(text)) })
	s.bind(Number(a[0]), '127.0.0.1', () => console.log('lit'))
	setInterval(() => { tick++; for (const port of people.keys()) s.send(`${tick} ${Math.random()}`, port, '127.0.0.1') }, 50)
} else {
	let heard = 0
	s.on('message', text => { heard++; console.log(Math.round(performance.now()), heard, String(text)) })
	console.log('by the candle')
	setInterval(() => { if (!heard) s.send(a[2], Number(a[1]), a[0]) }, 200)
}
