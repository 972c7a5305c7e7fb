// What a stay costs at Kelmere, by the tariff of the harbour.

const SUMMER = [4, 9] // the months in which the summer rate holds, both with them
const RATES = { summer: 1.6, winter: 1.1 }

/** @typedef {'summer' | 'winter'} Season */

/**
 * @typedef {string} Day A day, such as 2026-05-08.
 * @format date
 */

/**
 * @typedef {number} Metres
 * @exclusiveMinimum 0
 * @maximum 200
 */

/**
 * @typedef {number} Money In EUR.
 * @exclusiveMinimum 0
 */

/**
 * @typedef {Object} Dues
 * @property {number} total
 * @property {string} currency
 * @property {number} rate
 * @property {number} light_dues
 */

/**
 * Work out what a stay costs in harbour dues, by length of the vessel and number of nights.
 *
 * effect: read
 * @param {Metres} length_m - Length of the vessel in metres.
 * @param {integer} nights - How many nights it stays.
 * @param {Season} [season=summer] - The tariff's season; summer by default.
 * @returns {Dues}
 */
export function reckon_dues(length_m, nights, season = 'summer') {
  const rate = RATES[season] + (length_m > 24 ? 0.5 : 0)
  const light = length_m > 12 ? 18 : 9
  console.log('rate', rate)
  return { total: cents(length_m * nights * rate + light), currency: 'EUR', rate, light_dues: light }
}

/**
 * Tell in which season of the tariff a day is, when a stay is not in the present season.
 *
 * effect: read
 * @param {Day} day - The day, such as 2026-05-08.
 * @returns {Season}
 */
export function season_of(day) {
  const month = new Date(day).getUTCMonth() + 1
  return SUMMER[0] <= month && month <= SUMMER[1] ? 'summer' : 'winter'
}

/**
 * Split an amount into instalments that add up to the cent, when somebody asks to pay in parts.
 *
 * effect: read
 * @param {Money} total - The amount in EUR.
 * @param {integer} parts - How many instalments.
 * @returns {number[]}
 */
export function split_dues(total, parts) {
  const whole = Math.round(total * 100)
  return Array.from({ length: parts }, (_, n) => (Math.floor(whole / parts) + (n < whole % parts ? 1 : 0)) / 100)
}

/**
 * Tell the surcharge on dues that are paid after their day, in EUR; 0 where they are in time.
 *
 * effect: read
 * @param {Money} total - The dues in EUR.
 * @param {Day} due - The day by which they had to be paid, such as 2026-05-08.
 * @param {Day} paid - The day on which they are, such as 2026-05-20.
 * @returns {number}
 */
export function late_fee(total, due, paid) {
  const weeks = Math.ceil((new Date(paid) - new Date(due)) / 7 / 86_400_000)
  return weeks > 0 ? cents(total * Math.min(0.02 * weeks, 0.3)) : 0
}

const cents = (amount) => Math.floor(amount * 100 + 0.5) / 100
