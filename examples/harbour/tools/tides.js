// The tide at the bar is the sum of four harmonic constituents: amplitude in
// metres, speed in degrees an hour, phase in degrees.
const constituents = [[1.62, 28.9841042, 140], [0.54, 30.0, 175], [0.19, 15.0410686, 60], [0.14, 13.9430356, 310]]
const barDepth = 3.4 // at mean water
const underKeel = 0.4

const epoch = Date.UTC(2026, 0, 1)
const height = (ms) => constituents.reduce((h, [amp, speed, phase]) =>
  h + amp * Math.cos((speed * (ms - epoch) / 3600e3 - phase) * Math.PI / 180), 0)

// Summer time: from the last Sunday of March to the last of October.
const lastSunday = (year, month) => {
  const end = new Date(Date.UTC(year, month + 1, 0, 1))
  return end.getTime() - end.getUTCDay() * 86400e3
}
const [year, month, date] = args.day.split('-').map(Number)
const noon = Date.UTC(year, month - 1, date, 12)
const offset = noon > lastSunday(year, 2) && noon < lastSunday(year, 9) ? 3600e3 : 0
const midnight = Date.UTC(year, month - 1, date) - offset

const clock = (minutes) => `${String(Math.floor(minutes / 60) % 24).padStart(2, '0')}:${String(minutes % 60).padStart(2, '0')}`
const windows = []
let open = false
for (let m = 0; m <= 24 * 60; m += 5) {
  const depth = barDepth + height(midnight + m * 60e3)
  const passes = depth >= args.draught_m + underKeel && m < 24 * 60
  if (passes && !open) windows.push({opens: clock(m), closes: '', depth_m: 0})
  const last = windows[windows.length - 1]
  if (passes) last.depth_m = Math.max(last.depth_m, Math.round(depth * 10) / 10)
  if (!passes && open) last.closes = clock(m)
  open = passes
}
log(windows.length ? `deepest water ${windows.map((w) => w.depth_m).join(' and ')} m` : 'never deep enough')
return {day: args.day, windows}
