import { Trace } from './zwtrace.mjs'

const trace = new Trace(line => process.stdout.write(line))
trace.joined(0, 'fern', 'dog/fern')
const picture = (t, tick, x, gait, tired, rest = () => {}) => {
  trace.begin(t, tick)
  trace.set('dog/fern', 'x', x)
  trace.set('dog/fern', 'gait', gait)
  trace.set('dog/fern', 'tired', tired)
  rest()
  trace.end()
}
const sheep = () => {
  trace.set('sheep/s01', 'x', 10)
  trace.set('sheep/s01', 'y', 0.5)
}
const gate = () => trace.set('gate/n', 'label', 'say "hi"\\\n\u0001 über 羊')
picture(0, 0, -3.25, 'run', false, sheep)
picture(0.05, 1, -2.875, 'run', false, sheep)
picture(0.1, 2, -2.875, 'run', false, sheep)
picture(0.15, 3, -2.875, 'trot', true, gate)
trace.event(0.16, 'bark', { id: 81, entity: 'dog/fern', by: 'fern', to: 'moss', data: { loud: true } })
trace.event(0.17, 'final')
trace.input(0.18, 'run', 12)
trace.checkpoint(0.19, 'touch', { id: '7', entity: 'bell/brass', by: 'fern' })
trace.sent(0.191, '1042', { to: 'fern', data: 'sheep/s01 is gone', size: 96 })
trace.got(0.192, '7', { by: 'fern' })
trace.clock(0.2, 0.081, 12.5)
picture(0.25, 5, NaN, 'trot', true, () => {
  gate()
  trace.set('sheep/s02', 'x', Infinity)
  trace.set('sheep/s02', 'y', -Infinity)
})
picture(1, 20, 1234567.891, 'trot', true)
picture(1.1, -1, 0, 'trot', true)
const own = () => {
  trace.received()
  trace.set('dog/fern', 'x', 0.125)
  trace.predicted()
  trace.set('dog/fern', 'x', 0.5)
  trace.set('dog/fern', 'tired', false)
}
picture(1.2, -1, 0, 'trot', true, own)
picture(1.3, -1, 0, 'trot', true, own)
trace.at(25)
trace.left(1.5, 'fern')
trace.refused(1.6, 'oak')
