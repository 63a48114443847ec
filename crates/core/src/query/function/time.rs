//! Functions of dates and moments. A day begins at midnight UTC.

use super::error::EvalError;
use super::interval::Interval;
use crate::datetime::{self, DAY, FOREVER, FOREVER_DATE, NEVER, NEVER_DATE, SINCE_1970};
use crate::value::{Type, Value};

/// The first and the last microsecond of a timestamp, as PostgreSQL bounds them: 4714-11-24 BC and the year 294276.
const FIRST: i64 = -211_813_488_000_000_000;
const END: i64 = 9_223_371_331_200_000_000;

/// The days of a date, likewise: from 4714-11-24 BC to before the year 5874898.
const DATES: std::ops::Range<i64> = -2_451_545..2_145_031_949;

/// A part of a date or moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Field {
    /// Seconds of the minute, with a fraction.
    Second,
    /// Minutes of the hour.
    Minute,
    /// Hours of the day.
    Hour,
    /// Days of the month.
    Day,
    /// Weeks of the year, by ISO 8601.
    Week,
    /// Months of the year.
    Month,
    /// Quarters of the year.
    Quarter,
    /// Years; there is no year 0.
    Year,
    /// Days of the week from Sunday, which is 0.
    DayOfWeek,
    /// Days of the week from Monday, which is 1, by ISO 8601.
    IsoDayOfWeek,
    /// Days of the year.
    DayOfYear,
    /// The year that the week belongs to, by ISO 8601.
    IsoYear,
    /// Seconds since 1970, with a fraction.
    Epoch,
}

/// The fields by their words. The first eight are units that can be truncated to, too.
const FIELDS: [(&str, Field); 13] = [
    ("second", Field::Second),
    ("minute", Field::Minute),
    ("hour", Field::Hour),
    ("day", Field::Day),
    ("week", Field::Week),
    ("month", Field::Month),
    ("quarter", Field::Quarter),
    ("year", Field::Year),
    ("dow", Field::DayOfWeek),
    ("isodow", Field::IsoDayOfWeek),
    ("doy", Field::DayOfYear),
    ("isoyear", Field::IsoYear),
    ("epoch", Field::Epoch),
];

impl Field {
    /// The field with a word.
    pub fn named(word: &str) -> Option<Field> {
        FIELDS.iter().find(|(name, _)| word.eq_ignore_ascii_case(name)).map(|(_, field)| *field)
    }

    /// All words.
    pub fn words() -> impl Iterator<Item = &'static str> {
        FIELDS.iter().map(|(name, _)| *name)
    }

    /// Whether moments can be truncated to it.
    pub fn is_unit(self) -> bool {
        self <= Field::Year
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        FIELDS.iter().find(|(_, field)| *field == self).map_or("", |(word, _)| word)
    }
}

/// The day of a date or moment, from 2000-01-01, and the microseconds of that day; `None` for the ends of time.
fn split(v: &Value) -> Option<Option<(i64, i64)>> {
    match v {
        Value::Date(FOREVER_DATE | NEVER_DATE) => Some(None),
        Value::Date(days) => Some(Some((i64::from(*days), 0))),
        Value::Timestamp(FOREVER | NEVER) | Value::Timestamptz(FOREVER | NEVER) => Some(None),
        Value::Timestamp(t) | Value::Timestamptz(t) => Some(Some((t.div_euclid(DAY), t.rem_euclid(DAY)))),
        _ => None,
    }
}

/// The Monday of the week that a day is in, both from 2000-01-01, which was a Saturday.
fn monday(day: i64) -> i64 {
    day - (day + 5).rem_euclid(7)
}

/// The year of ISO 8601 that a day is in, and the number of its week.
fn iso_week(day: i64) -> (i64, i64) {
    // A week belongs to the year of its Thursday.
    let thursday = monday(day) + 3;
    let (year, ..) = datetime::calendar(thursday);
    (year, (thursday - datetime::days_from(year, 1, 1)) / 7 + 1)
}

/// A year as it is said: before 1 comes 1 BC, which is -1.
fn said(year: i64) -> i64 {
    if year > 0 { year } else { year - 1 }
}

/// Microseconds as seconds with six digits.
fn seconds(micros: i128) -> Value {
    let (sign, size) = (if micros < 0 { "-" } else { "" }, micros.unsigned_abs());
    Value::decimal(&format!("{sign}{}.{:06}", size / 1_000_000, size % 1_000_000)).unwrap_or(Value::Null)
}

/// `EXTRACT(field FROM value)`, as `numeric`.
pub fn extract(field: Field, v: &Value) -> Value {
    let (day, of_day) = match split(v) {
        None => return Value::Null,
        Some(Some(split)) => split,
        // What only grows is infinite there; what comes back is nothing.
        Some(None) if matches!(field, Field::Year | Field::IsoYear | Field::Epoch) => {
            let is_end =
                matches!(v, Value::Date(FOREVER_DATE) | Value::Timestamp(FOREVER) | Value::Timestamptz(FOREVER));
            return Value::Float(if is_end { f64::INFINITY } else { f64::NEG_INFINITY });
        }
        Some(None) => return Value::Null,
    };
    let (year, month, day_of_month) = datetime::calendar(day);
    let since_1970 = day + SINCE_1970 / DAY;
    let whole = match field {
        Field::Second => return seconds((of_day % 60_000_000).into()),
        Field::Epoch if matches!(v, Value::Date(_)) => since_1970 * (DAY / 1_000_000),
        Field::Epoch => return seconds(i128::from(since_1970) * i128::from(DAY) + i128::from(of_day)),
        Field::Minute => of_day / 60_000_000 % 60,
        Field::Hour => of_day / 3_600_000_000,
        Field::Day => day_of_month,
        Field::Week => iso_week(day).1,
        Field::Month => month,
        Field::Quarter => (month - 1) / 3 + 1,
        Field::Year => said(year),
        Field::DayOfWeek => (day + 6).rem_euclid(7),
        Field::IsoDayOfWeek => (day + 5).rem_euclid(7) + 1,
        Field::DayOfYear => day - datetime::days_from(year, 1, 1) + 1,
        Field::IsoYear => said(iso_week(day).0),
    };
    Value::Int(whole)
}

/// The same moment with whatever is smaller than a unit left out.
///
/// # Errors
/// That is before the first moment that there is.
pub fn truncate(unit: Field, ty: Type, v: &Value) -> Result<Value, EvalError> {
    let Some(Some((day, of_day))) = split(v) else { return Ok(v.clone()) };
    let (year, month, _) = datetime::calendar(day);
    let (day, of_day) = match unit {
        Field::Second => (day, of_day - of_day % 1_000_000),
        Field::Minute => (day, of_day - of_day % 60_000_000),
        Field::Hour => (day, of_day - of_day % 3_600_000_000),
        Field::Day => (day, 0),
        Field::Week => (monday(day), 0),
        Field::Month => (datetime::days_from(year, month, 1), 0),
        Field::Quarter => (datetime::days_from(year, (month - 1) / 3 * 3 + 1, 1), 0),
        _ => (datetime::days_from(year, 1, 1), 0),
    };
    let at = day.saturating_mul(DAY).saturating_add(of_day);
    match v {
        _ if at < FIRST => Err(EvalError::OutOfRange(ty)),
        Value::Timestamp(_) => Ok(Value::Timestamp(at)),
        Value::Timestamptz(_) => Ok(Value::Timestamptz(at)),
        _ => Ok(Value::Null),
    }
}

/// A moment that is later by an interval: first by its months, at most to the end of the month, then by its days, then by the
/// rest.
///
/// # Errors
/// There is no such moment.
pub fn shift(by: Interval, ty: Type, v: &Value) -> Result<Value, EvalError> {
    let Some(split) = split(v) else { return Ok(Value::Null) };
    let Some((day, of_day)) = split else { return Ok(v.clone()) };
    let (year, month, day_of_month) = datetime::calendar(day);
    let months = year * 12 + month - 1 + i64::from(by.months);
    let (year, month) = (months.div_euclid(12), months.rem_euclid(12) + 1);
    let day = datetime::days_from(year, month, day_of_month.min(datetime::days_in(year, month)));
    let in_range = |at: &i64| (FIRST..END).contains(at);
    let after_months = day.checked_mul(DAY).and_then(|at| at.checked_add(of_day)).filter(in_range);
    let after_days = after_months.and_then(|at| at.checked_add(i64::from(by.days) * DAY)).filter(in_range);
    let shifted = after_days.and_then(|at| at.checked_add(by.micros)).filter(in_range);
    match (shifted, ty) {
        (None, _) => Err(EvalError::OutOfRange(ty)),
        (Some(at), Type::Timestamptz) => Ok(Value::Timestamptz(at)),
        (Some(at), _) => Ok(Value::Timestamp(at)),
    }
}

/// A date that is later by so many days.
///
/// # Errors
/// There is no such date.
pub fn shift_days(date: i32, by: i64) -> Result<Value, EvalError> {
    if matches!(date, FOREVER_DATE | NEVER_DATE) {
        return Ok(Value::Date(date));
    }
    let shifted = i64::from(date).checked_add(by).filter(|day| DATES.contains(day));
    shifted.and_then(|day| i32::try_from(day).ok()).map(Value::Date).ok_or(EvalError::OutOfRange(Type::Date))
}

/// How many days lie between two dates.
///
/// # Errors
/// One of them is an end of time.
pub fn days_between(later: i32, earlier: i32) -> Result<Value, EvalError> {
    let is_end = |date| matches!(date, FOREVER_DATE | NEVER_DATE);
    if is_end(later) || is_end(earlier) {
        return Err(EvalError::OutOfRange(Type::Date));
    }
    Ok(Value::Int(i64::from(later) - i64::from(earlier)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn weeks_are_those_of_iso_8601() {
        let week = |text: &str| iso_week(datetime::parse_date(text).unwrap().into());
        for (text, expected) in [
            ("2005-01-01", (2004, 53)),
            ("2005-01-02", (2004, 53)),
            ("2005-12-31", (2005, 52)),
            ("2007-01-01", (2007, 1)),
            ("2008-12-29", (2009, 1)),
            ("2010-01-03", (2009, 53)),
            ("2000-01-01", (1999, 52)),
        ] {
            assert_eq!(week(text), expected, "{text}");
        }
    }

    #[test]
    fn the_end_of_a_month_stays_one() {
        let month = |n| Interval { months: n, ..Interval::default() };
        let at = |text| Value::from_text(text, Type::Timestamp).unwrap();
        let later = |n, text| shift(month(n), Type::Timestamp, &at(text)).unwrap();
        assert_eq!(later(1, "2024-01-31 10:00"), at("2024-02-29 10:00"));
        assert_eq!(later(-11, "2024-01-31 10:00"), at("2023-02-28 10:00"));
        let end = shift(month(12), Type::Timestamp, &at("294276-12-31 00:00"));
        assert_eq!(end, Err(EvalError::OutOfRange(Type::Timestamp)));
    }
}
