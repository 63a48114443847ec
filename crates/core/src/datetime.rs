//! Dates and times as PostgreSQL keeps them, and their texts: PostgreSQL's own (`DateStyle` ISO, in UTC) and the
//! protocol's (RFC 3339 and ISO 8601).
//!
//! All are whole numbers, so that comparing them is exact: days or microseconds from 2000-01-01 (as PostgreSQL does, so that its whole range fits), negative before it,
//! with the two ends of the range for `infinity`. The calendar is the proleptic Gregorian one. Years beyond four digits
//! are written with a sign, and years before 1 as ISO 8601 counts them: 1 BC is year 0000, 2 BC is -0001.

use std::fmt::Write as _;

/// Microseconds in a day.
pub const DAY: i64 = 86_400_000_000;

/// Microseconds from 1970-01-01, where clocks begin to count, to 2000-01-01.
pub const SINCE_1970: i64 = 946_684_800_000_000;

/// `infinity` of a timestamp; its negative counterpart is [`NEVER`].
pub const FOREVER: i64 = i64::MAX;

/// `-infinity` of a timestamp.
pub const NEVER: i64 = i64::MIN;

/// `infinity` of a date.
pub const FOREVER_DATE: i32 = i32::MAX;

/// `-infinity` of a date.
pub const NEVER_DATE: i32 = i32::MIN;

/// Days from 2000-01-01 to a day of the calendar; the year counts as ISO 8601 does.
pub(crate) fn days_from(year: i64, month: i64, day: i64) -> i64 {
    // Years begin in March here, so that the leap day is a year's last.
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year.rem_euclid(400);
    let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 730_425
}

/// Year, month and day of a number of days from 2000-01-01.
pub(crate) fn calendar(days: i64) -> (i64, i64, i64) {
    gossip_protocol::timestamp::calendar(days + SINCE_1970 / DAY)
}

/// How many days a month has.
pub(crate) fn days_in(year: i64, month: i64) -> i64 {
    let (y, m) = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
    days_from(y, m, 1) - days_from(year, month, 1)
}

fn write_date(out: &mut String, days: i64) {
    let (year, month, day) = calendar(days);
    // Writing to a string cannot fail.
    let _ = match year {
        0..=9_999 => write!(out, "{year:04}-{month:02}-{day:02}"),
        _ => write!(out, "{year:+05}-{month:02}-{day:02}"),
    };
}

fn write_time(out: &mut String, micros: i64) {
    let seconds = micros / 1_000_000;
    let (h, m, s) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
    let _ = write!(out, "{h:02}:{m:02}:{s:02}.{:06}", micros % 1_000_000);
}

/// A date for the protocol.
pub fn date_text(days: i32) -> String {
    let mut out = String::new();
    match days {
        FOREVER_DATE => out.push_str("infinity"),
        NEVER_DATE => out.push_str("-infinity"),
        days => write_date(&mut out, days.into()),
    }
    out
}

/// A time of day for the protocol.
pub fn time_text(micros: i64) -> String {
    let mut out = String::new();
    write_time(&mut out, micros);
    out
}

/// A timestamp for the protocol; with `zone` one that is a moment in time, in UTC.
pub fn timestamp_text(micros: i64, zone: bool) -> String {
    let mut out = String::new();
    match micros {
        FOREVER => out.push_str("infinity"),
        NEVER => out.push_str("-infinity"),
        _ => {
            write_date(&mut out, micros.div_euclid(DAY));
            out.push('T');
            write_time(&mut out, micros.rem_euclid(DAY));
            if zone {
                out.push('Z');
            }
        }
    }
    out
}

/// Takes a whole number off the front of a text.
fn number(text: &mut &str, digits: std::ops::RangeInclusive<usize>) -> Option<i64> {
    let end = text.bytes().take_while(u8::is_ascii_digit).count();
    let found = text.get(..end).filter(|_| digits.contains(&end))?.parse().ok()?;
    *text = &text[end..];
    Some(found)
}

fn take(text: &mut &str, c: char) -> Option<()> {
    *text = text.strip_prefix(c)?;
    Some(())
}

/// Takes `year-month-day` off the front, the year as it is written. A sign makes it an ISO 8601 year.
fn parse_day(text: &mut &str) -> Option<(i64, i64, i64)> {
    let sign = match text.as_bytes().first()? {
        b'-' => -1,
        b'+' => 1,
        _ => 0,
    };
    if sign != 0 {
        *text = &text[1..];
    }
    let year = number(text, 4..=7)?;
    take(text, '-')?;
    let month = number(text, 1..=2).filter(|m| (1..=12).contains(m))?;
    take(text, '-')?;
    let day = number(text, 1..=2).filter(|d| (1..=31).contains(d))?;
    Some((if sign < 0 { -year } else { year }, month, day))
}

/// Takes `hour:minute[:second[.fraction]]` off the front, as microseconds since midnight; 24:00 is the end of a day.
fn parse_clock(text: &mut &str) -> Option<i64> {
    let hour = number(text, 1..=2)?;
    take(text, ':')?;
    let minute = number(text, 2..=2).filter(|m| *m < 60)?;
    let (mut second, mut micros) = (0, 0);
    if take(text, ':').is_some() {
        second = number(text, 2..=2).filter(|s| *s < 60)?;
        if take(text, '.').is_some() {
            let end = text.bytes().take_while(u8::is_ascii_digit).count();
            let fraction = text.get(..end).filter(|f| (1..=6).contains(&f.len()))?;
            micros = fraction.parse::<i64>().ok()? * 10_i64.pow(6 - end as u32);
            *text = &text[end..];
        }
    }
    let whole = ((hour * 60 + minute) * 60 + second) * 1_000_000 + micros;
    (whole <= DAY).then_some(whole)
}

/// Takes an offset from UTC off the front, in microseconds: `Z`, `+hh`, `+hh:mm`, `+hh:mm:ss`, `+hhmm`.
fn parse_offset(text: &mut &str) -> Option<i64> {
    if take(text, 'Z').or_else(|| take(text, 'z')).is_some() {
        return Some(0);
    }
    let sign = if take(text, '+').is_some() { 1 } else { take(text, '-').map(|()| -1)? };
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let (hours, minutes) = match digits {
        4 => {
            let both = number(text, 4..=4)?;
            (both / 100, both % 100)
        }
        _ => {
            let hours = number(text, 1..=2)?;
            (hours, if take(text, ':').is_some() { number(text, 2..=2)? } else { 0 })
        }
    };
    let seconds = if take(text, ':').is_some() { number(text, 2..=2)? } else { 0 };
    (hours < 16 && minutes < 60 && seconds < 60).then_some(sign * ((hours * 60 + minutes) * 60 + seconds) * 1_000_000)
}

/// The year as ISO 8601 counts it, with the era that may end a text.
fn with_era(text: &mut &str, year: i64) -> Option<i64> {
    match text.trim_start() {
        "" => Some(year),
        "BC" | "bc" if year > 0 => {
            *text = "";
            Some(1 - year)
        }
        _ => None,
    }
}

fn infinity<T>(text: &str, plus: T, minus: T) -> Option<T> {
    match text.to_ascii_lowercase().as_str() {
        "infinity" | "+infinity" => Some(plus),
        "-infinity" => Some(minus),
        _ => None,
    }
}

fn to_days((year, month, day): (i64, i64, i64)) -> Option<i64> {
    (day <= days_in(year, month)).then(|| days_from(year, month, day))
}

/// Reads a date, from the database or from a query.
pub fn parse_date(text: &str) -> Option<i32> {
    if let Some(end) = infinity(text, FOREVER_DATE, NEVER_DATE) {
        return Some(end);
    }
    let mut rest = text;
    let (year, month, day) = parse_day(&mut rest)?;
    let year = with_era(&mut rest, year)?;
    i32::try_from(to_days((year, month, day))?).ok()
}

/// Reads a time of day.
pub fn parse_time(text: &str) -> Option<i64> {
    let mut rest = text;
    parse_clock(&mut rest).filter(|_| rest.is_empty())
}

/// Reads a timestamp; with `zone` one with an offset from UTC, which counts as UTC where it is absent. Without `zone`
/// an offset is ignored, as PostgreSQL does.
pub fn parse_timestamp(text: &str, zone: bool) -> Option<i64> {
    if let Some(end) = infinity(text, FOREVER, NEVER) {
        return Some(end);
    }
    let mut rest = text;
    let (year, month, day) = parse_day(&mut rest)?;
    let (mut clock, mut offset) = (0, 0);
    if rest.starts_with(['T', 't']) || rest.trim_start().starts_with(|c: char| c.is_ascii_digit()) {
        rest = rest.strip_prefix(['T', 't']).unwrap_or(rest.trim_start());
        clock = parse_clock(&mut rest)?;
        let after = rest.trim_start();
        if after.starts_with(['+', '-', 'Z', 'z']) {
            rest = after;
            offset = parse_offset(&mut rest)?;
        }
    }
    let year = with_era(&mut rest, year)?;
    let days = to_days((year, month, day))?;
    let at = days.checked_mul(DAY)?.checked_add(clock)?;
    if zone { at.checked_sub(offset) } else { Some(at) }
}

/// Reads the time of an event (RFC 3339), as microseconds since 2000. What is finer than that is cut off.
pub fn parse_event_time(text: &str) -> Option<i64> {
    let Some((whole, rest)) = text.split_once('.') else { return parse_timestamp(text, true) };
    let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
    let (fraction, zone) = rest.split_at(digits);
    parse_timestamp(&format!("{whole}.{}{zone}", &fraction[..digits.min(6)]), true)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_calendar_goes_both_ways() {
        // Every day for a while around the odd places, and far out.
        for from in [-730_560, -1_000_000, -1, 0, 10_957, 11_000, 2_921_800, 100_000_000] {
            for days in from..from + 800 {
                let (y, m, d) = calendar(days);
                assert_eq!(days_from(y, m, d), days, "{y}-{m}-{d}");
                assert!((1..=days_in(y, m)).contains(&d));
            }
        }
    }

    #[test]
    fn times_of_events_may_be_finer_than_microseconds() {
        let at = |text| parse_event_time(text).map(|t| timestamp_text(t, true));
        let micros = at("2031-04-05T06:07:08.123456Z");
        assert!(micros.is_some());
        assert_eq!(at("2031-04-05T06:07:08.123456999Z"), micros);
        assert_eq!(at("2031-04-05T08:07:08.1234561+02:00"), micros);
        assert_eq!(at("2031-04-05T06:07:08.5Z"), at("2031-04-05T06:07:08.500000000Z"));
        for text in ["2031-04-05T06:07:08.", "2031-04-05T06:07:08.é", ".", "x.1234567", "2031-04-05T06:07:08.1234567x"]
        {
            assert_eq!(parse_event_time(text), None, "{text}");
        }
    }

    #[test]
    fn texts_are_read_as_the_database_writes_them_and_written_as_the_protocol_says() {
        let stamp = |s| parse_timestamp(s, true).map(|t| timestamp_text(t, true));
        for (text, expected) in [
            ("2026-11-23 14:12:23.5+00", Some("2026-11-23T14:12:23.500000Z")),
            ("2026-11-23 14:12:23+05:30", Some("2026-11-23T08:42:23.000000Z")),
            ("2026-11-23T14:12:23Z", Some("2026-11-23T14:12:23.000000Z")),
            ("0044-03-15 12:00:00+00 BC", Some("-0043-03-15T12:00:00.000000Z")),
            ("0001-01-01 00:00:00+00 BC", Some("0000-01-01T00:00:00.000000Z")),
            ("12345-01-02 03:04:05+00", Some("+12345-01-02T03:04:05.000000Z")),
            ("294276-12-31 23:59:59.999999+00", Some("+294276-12-31T23:59:59.999999Z")),
            ("infinity", Some("infinity")),
            ("-infinity", Some("-infinity")),
            ("2026-02-30 00:00:00+00", None),
            ("2026-11-23 25:00:00+00", None),
            ("tomorrow", None),
        ] {
            assert_eq!(stamp(text).as_deref(), expected, "{text}");
        }
        // What the protocol writes can be read again.
        for t in [0, -1, DAY * -1_800_000, DAY * 106_751_990, FOREVER, NEVER] {
            assert_eq!(parse_timestamp(&timestamp_text(t, true), true), Some(t));
            assert_eq!(parse_timestamp(&timestamp_text(t, false), false), Some(t));
        }
        assert_eq!(parse_date("4713-11-24 BC").map(date_text).as_deref(), Some("-4712-11-24"));
        assert_eq!(parse_date("5874897-12-31").map(date_text).as_deref(), Some("+5874897-12-31"));
        assert_eq!(parse_time("24:00:00").map(time_text).as_deref(), Some("24:00:00.000000"));
        assert_eq!(parse_time("12:30").map(time_text).as_deref(), Some("12:30:00.000000"));
    }
}
