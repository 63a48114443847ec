//! Lengths of time, as PostgreSQL writes and reads them.

use std::fmt;

use crate::datetime::DAY;

const HOUR: i64 = 3_600_000_000;
const MINUTE: i64 = 60_000_000;
const SECOND: i64 = 1_000_000;

/// A length of time. Months and days have none that is always the same, so they are kept apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Interval {
    /// Months; a year has twelve.
    pub months: i32,
    /// Days; a week has seven.
    pub days: i32,
    /// Microseconds.
    pub micros: i64,
}

/// A unit's months, days and microseconds.
fn unit(word: &str) -> Option<(i64, i64, i64)> {
    let singular = word.strip_suffix('s').filter(|w| w.len() > 1).unwrap_or(word);
    Some(match singular {
        "year" | "yr" | "y" => (12, 0, 0),
        "month" | "mon" => (1, 0, 0),
        "week" | "w" => (0, 7, 0),
        "day" | "d" => (0, 1, 0),
        "hour" | "hr" | "h" => (0, 0, HOUR),
        "minute" | "min" | "m" => (0, 0, MINUTE),
        "second" | "sec" | "s" => (0, 0, SECOND),
        "millisecond" | "msec" | "ms" => (0, 0, 1_000),
        "microsecond" | "usec" => (0, 0, 1),
        _ => return None,
    })
}

impl Interval {
    /// Reads whole numbers with their units, as `1 day 2 hours`, `90 minutes` or `-1 week`, and a time of day, as `1 day 02:30`,
    /// of which the last part may have a fraction. What else PostgreSQL reads is not read.
    pub fn parse(text: &str) -> Option<Interval> {
        let lower = text.trim().to_ascii_lowercase();
        let (mut months, mut days, mut micros) = (0_i64, 0_i64, 0_i64);
        let mut words = lower.split_ascii_whitespace().peekable();
        words.peek()?;
        while let Some(word) = words.next() {
            if word.contains(':') {
                micros = micros.checked_add(clock(word)?)?;
                continue;
            }
            let digits = word.strip_prefix(['-', '+']).unwrap_or(word);
            let end = digits.bytes().take_while(u8::is_ascii_digit).count();
            let (number, attached) = word.split_at(word.len() - digits.len() + end);
            let number: i64 = number.parse().ok()?;
            let (m, d, u) = unit(if attached.is_empty() { words.next()? } else { attached })?;
            months = months.checked_add(number.checked_mul(m)?)?;
            days = days.checked_add(number.checked_mul(d)?)?;
            micros = micros.checked_add(number.checked_mul(u)?)?;
        }
        Some(Interval { months: months.try_into().ok()?, days: days.try_into().ok()?, micros })
    }

    /// The same backwards.
    pub fn negated(self) -> Option<Interval> {
        let Interval { months, days, micros } = self;
        Some(Interval { months: months.checked_neg()?, days: days.checked_neg()?, micros: micros.checked_neg()? })
    }

    /// Its microseconds, if it is of no months, with 24 hours in a day.
    pub fn in_micros(self) -> Option<i64> {
        let days = i64::from(self.days).checked_mul(DAY)?;
        days.checked_add(self.micros).filter(|_| self.months == 0)
    }
}

impl fmt::Display for Interval {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Interval { months, days, micros } = *self;
        let mut parts: Vec<String> = Vec::new();
        for (n, unit) in [(months, "months"), (days, "days")] {
            parts.extend((n != 0).then(|| format!("{n} {unit}")));
        }
        if micros != 0 || parts.is_empty() {
            let sign = if micros < 0 { "-" } else { "" };
            parts.push(format!("{sign}{}", text(micros.unsigned_abs())));
        }
        f.write_str(&parts.join(" "))
    }
}

/// `hours:minutes[:seconds[.fraction]]`, with a sign.
fn clock(word: &str) -> Option<i64> {
    let (sign, rest) = match word.strip_prefix('-') {
        Some(rest) => (-1, rest),
        None => (1, word.strip_prefix('+').unwrap_or(word)),
    };
    let mut parts = rest.split(':');
    let digits = |s: &str| s.bytes().all(|b| b.is_ascii_digit()).then(|| s.parse::<i64>().ok()).flatten();
    let hours = digits(parts.next()?)?;
    let minutes = digits(parts.next()?).filter(|m| *m < 60)?;
    let (seconds, fraction) = parts.next().map_or(("0", ""), |s| s.split_once('.').unwrap_or((s, "")));
    let seconds = digits(seconds).filter(|s| *s < 60)?;
    let micros = match fraction.len() {
        0 => 0,
        length @ 1..=6 => digits(fraction)? * 10_i64.pow(6 - length as u32),
        _ => return None,
    };
    parts.next().is_none().then_some(())?;
    let whole = hours.checked_mul(HOUR)?.checked_add(minutes * MINUTE + seconds * SECOND + micros)?;
    Some(sign * whole)
}

/// Microseconds as PostgreSQL reads an interval, in the largest unit that fits.
pub fn text(micros: u64) -> String {
    let units = [(HOUR, "hours"), (MINUTE, "minutes"), (SECOND, "seconds"), (1, "microseconds")];
    let (unit, name) =
        units.into_iter().find(|(u, _)| micros.is_multiple_of(u.unsigned_abs())).unwrap_or((1, "microseconds"));
    format!("{} {name}", micros / unit.unsigned_abs())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn intervals_are_read_as_postgresql_reads_them() {
        let of = |months, days, micros| Some(Interval { months, days, micros });
        for (text, expected) in [
            ("1 day", of(0, 1, 0)),
            ("90 minutes", of(0, 0, 90 * MINUTE)),
            ("-1 week 2 days", of(0, -5, 0)),
            ("1 year 2 mons", of(14, 0, 0)),
            ("2h", of(0, 0, 2 * HOUR)),
            ("1 day 02:30", of(0, 1, 2 * HOUR + 30 * MINUTE)),
            ("-00:00:01.5", of(0, 0, -1_500_000)),
            ("  10   Seconds ", of(0, 0, 10 * SECOND)),
            ("", None),
            ("1", None),
            ("soon", None),
            ("1 fortnight", None),
            ("1:2:3:4", None),
            ("9999999999 years", None),
            ("9223372036854775807 hours", None),
        ] {
            assert_eq!(Interval::parse(text), expected, "{text}");
        }
        for micros in [1, 1_500_000, 60 * SECOND, 25 * HOUR, 3 * DAY] {
            let read = Interval::parse(&text(micros.unsigned_abs())).and_then(Interval::in_micros);
            assert_eq!(read, Some(micros));
        }
    }
}
