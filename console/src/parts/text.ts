/** Sizes in powers of 1024, as the command line writes them. */
export function bytes(n: number): string {
  if (n < 1024) return `${n} B`
  let f = n / 1024
  let unit = 0
  while (f >= 1000 && unit < 5) {
    f /= 1024
    unit++
  }
  return `${f.toFixed(1)} ${'KMGTPE'[unit]}iB`
}

export function percent(p: number): string {
  if (p >= 0.995) return '>99 %'
  return p < 0.005 ? '<1 %' : `${Math.round(p * 100)} %`
}

/** A time of the service, in UTC. */
export function utc(time: string): string {
  return `${time.slice(0, 10)} ${time.slice(11, 19)}`
}

/** A time out of a log, which names no zone. */
export function logged(time: string | undefined): string {
  return time === undefined || time.startsWith('0001') ? 'no time' : utc(time)
}
