'use strict'
// Plays the world back. Positions come as whole milliseconds and hundredths of a
// unit, each point as its difference from the one before.
{
  const world = JSON.parse(document.getElementById('data').textContent)
  if (world) start(world)

  function start(world) {
    const $ = id => document.getElementById(id)
    const canvas = $('ground')
    const pen = canvas.getContext('2d')
    const tracks = world.tracks.map(({ v, e, l = 0, end, p }) => {
      const t = [], x = [], y = []
      let a = 0, b = 0, c = 0
      for (let i = 0; i < p.length; i += 3) {
        t.push((a += p[i]))
        x.push((b += p[i + 1]) / 100)
        y.push((c += p[i + 2]) / 100)
      }
      return { v, e, l, end, t, x, y }
    })
    const kinds = [...new Set(world.entities.map(kindOf))]
    const hues = ['#0072b2', '#d55e00', '#008264', '#a04682', '#966e00', '#56a0c8', '#6e6e6e']
    let now = 0
    let chosen = -1 // the finding that was gone to last
    let playing = false
    let last = 0

    world.views.forEach((name, i) => $('who').add(new Option(name, i)))
    $('who').value = Math.min(1, world.views.length - 1)
    world.findings.forEach((f, i) => $('jump').add(new Option(`${f.id} ${f.text}`, i)))

    function kindOf(entity) {
      return entity.split('/')[0]
    }

    // Where a thing is on its way at a moment, or null if it is not there.
    function at(track, moment) {
      const { t, x, y, end } = track
      if (moment < t[0] || moment > end) return null
      let low = 0
      let high = t.length - 1
      while (low < high) {
        const middle = (low + high + 1) >> 1
        if (t[middle] <= moment) low = middle
        else high = middle - 1
      }
      if (low === t.length - 1) return [x[low], y[low]]
      const share = (moment - t[low]) / (t[low + 1] - t[low])
      return [x[low] + (x[low + 1] - x[low]) * share, y[low] + (y[low + 1] - y[low]) * share]
    }

    const [left, bottom, right, top] = world.bounds
    const scale = Math.min((canvas.width - 60) / Math.max(1e-6, right - left), (canvas.height - 60) / Math.max(1e-6, top - bottom))
    const screen = ([x, y]) => [canvas.width / 2 + (x - (left + right) / 2) * scale, canvas.height / 2 - (y - (bottom + top) / 2) * scale]

    function draw() {
      const who = Number($('who').value)
      pen.clearRect(0, 0, canvas.width, canvas.height)
      const style = getComputedStyle(document.documentElement)
      const ground = style.getPropertyValue('--ground'), ink = style.getPropertyValue('--text')
      pen.fillStyle = ground
      pen.fillRect(0, 0, canvas.width, canvas.height)
      const reference = new Map()
      const shown = new Map()
      const under = [] // what the view received, and predicts
      for (const track of tracks) {
        if (track.v !== 0 && track.v !== who) continue
        const place = at(track, now)
        if (!place) continue
        if (track.l) {
          if (track.v === who) under.push([track.l, place])
          continue
        }
        const which = track.v === 0 ? reference : shown
        which.set(track.e, place)
        if (track.v === who) {
          pen.strokeStyle = 'rgba(128,128,128,0.5)'
          pen.lineWidth = 1
          pen.beginPath()
          for (let back = 2000; back >= 0; back -= 100) {
            const past = at(track, now - back)
            if (past) pen.lineTo(...screen(past))
          }
          pen.stroke()
        }
      }
      pen.font = '12px system-ui, sans-serif'
      const many = reference.size + shown.size > 60
      for (const [e, place] of shown) {
        const [x, y] = screen(place)
        const there = reference.get(e)
        pen.strokeStyle = '#d55e00'
        pen.lineWidth = 1.5
        if (there) {
          pen.beginPath()
          pen.moveTo(x, y)
          pen.lineTo(...screen(there))
          pen.stroke()
        } else if (who !== 0) {
          // Only this view has it.
          pen.strokeRect(x - 9, y - 9, 18, 18)
        }
        pen.fillStyle = hues[kinds.indexOf(kindOf(world.entities[e])) % hues.length]
        pen.beginPath()
        pen.arc(x, y, 4.5, 0, 2 * Math.PI)
        pen.fill()
        if (!many || kindOf(world.entities[e]) === kinds[0]) {
          pen.fillStyle = ink
          pen.fillText(world.entities[e], x + 8, y - 6)
        }
      }
      for (const [layer, place] of under) {
        const [x, y] = screen(place)
        pen.strokeStyle = layer === 1 ? '#a04682' : '#008264'
        pen.lineWidth = 1.5
        if (layer === 1) pen.strokeRect(x - 4, y - 4, 8, 8)
        else {
          pen.beginPath()
          pen.moveTo(x, y - 6)
          pen.lineTo(x + 5.5, y + 4)
          pen.lineTo(x - 5.5, y + 4)
          pen.closePath()
          pen.stroke()
        }
      }
      for (const [e, place] of reference) {
        const [x, y] = screen(place)
        pen.strokeStyle = hues[kinds.indexOf(kindOf(world.entities[e])) % hues.length]
        pen.lineWidth = 1.5
        pen.setLineDash(shown.has(e) || who === 0 ? [] : [3, 3])
        pen.beginPath()
        pen.arc(x, y, 8, 0, 2 * Math.PI)
        pen.stroke()
        pen.setLineDash([])
      }
      pen.fillStyle = ink
      kinds.forEach((kind, i) => {
        pen.fillStyle = hues[i % hues.length]
        pen.fillRect(12, 14 + 16 * i, 9, 9)
        pen.fillStyle = ink
        pen.fillText(kind, 27, 22 + 16 * i)
      })
      $('now').value = `${(now / 1000).toFixed(3)} s`
      $('time').value = now
      const current = world.findings.filter(f => Math.abs(f.t - now) < 1000)
      $('said').textContent = current.map(f => `${f.id} ${f.text}`).join(' · ')
    }

    function go(moment) {
      now = Math.max(0, Math.min(world.length, moment))
      draw()
    }

    function jump(i) {
      const f = world.findings[i]
      if (!f) return
      const view = world.views.indexOf(f.view)
      if (view >= 0) $('who').value = view
      $('jump').value = chosen = i
      play(false)
      go(f.t + 300)
    }

    function play(on) {
      playing = on
      last = performance.now()
      $('play').textContent = on ? 'pause' : 'play'
      if (on) requestAnimationFrame(frame)
    }

    function frame(moment) {
      if (!playing) return
      go(now + (moment - last) * Number($('speed').value))
      last = moment
      if (now >= world.length) play(false)
      else requestAnimationFrame(frame)
    }

    $('play').onclick = () => play(!playing)
    $('back').onclick = () => go(now - 100)
    $('on').onclick = () => go(now + 100)
    $('time').oninput = () => go(Number($('time').value))
    $('who').onchange = draw
    matchMedia('(prefers-color-scheme: dark)').onchange = draw
    $('jump').onchange = () => jump(Number($('jump').value))
    document.querySelectorAll('a.go').forEach(a => {
      a.onclick = () => jump(world.findings.findIndex(f => f.id === a.dataset.finding))
    })
    document.addEventListener('keydown', event => {
      if (/^(INPUT|SELECT|BUTTON|SUMMARY)$/.test(event.target.tagName) && event.target.id !== 'time') return
      const acts = { ' ': () => play(!playing), ArrowLeft: () => go(now - 100), ArrowRight: () => go(now + 100), n: () => jump(chosen + 1), p: () => jump(chosen - 1) }
      if (!acts[event.key]) return
      event.preventDefault()
      acts[event.key]()
    })
    if (world.findings.length) jump(0)
    else draw()
  }
}
