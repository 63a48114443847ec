//! Moments as the protocol writes them: RFC 3339 in UTC with microseconds.

/// A moment: microseconds since 1970-01-01 00:00:00 UTC.
pub type Timestamp = i64;

/// A length of time in microseconds.
pub type Micros = i64;

/// Microseconds in a day.
const DAY: i64 = 86_400_000_000;

/// The last microsecond of the year 9999.
const LAST: Timestamp = 253_402_300_799_999_999;

/// A moment as text; the nearest one with a year from 1970 to 9999.
pub fn rfc3339(at: Timestamp) -> String {
    let at = at.clamp(0, LAST);
    let (days, micros) = (at / DAY, at % DAY);
    let (seconds, fraction) = (micros / 1_000_000, micros % 1_000_000);
    let (hour, minute, second) = (seconds / 3_600, seconds / 60 % 60, seconds % 60);
    let (year, month, day) = calendar(days);
    format!("{year:04}-{month:02}-{day:02}T{hour:02}:{minute:02}:{second:02}.{fraction:06}Z")
}

/// Year, month and day of a number of days from 1970-01-01, in the proleptic Gregorian calendar; years count as ISO 8601
/// has them.
pub fn calendar(days: i64) -> (i64, i64, i64) {
    // Counted from the first of March of year 0, so that the leap day is a year's last.
    let days = days + 719_468;
    let (era, of_era) = (days.div_euclid(146_097), days.rem_euclid(146_097));
    let year = (of_era - of_era / 1_460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let month = (5 * of_year + 2) / 153;
    let day = of_year - (153 * month + 2) / 5 + 1;
    let month = if month < 10 { month + 3 } else { month - 9 };
    (era * 400 + year + i64::from(month <= 2), month, day)
}

#[cfg(test)]
mod tests {
    use super::rfc3339;

    #[test]
    fn times_are_rfc_3339() {
        for (at, text) in [
            (0, "1970-01-01T00:00:00.000000Z"),
            (951_868_799_999_999, "2000-02-29T23:59:59.999999Z"),
            (1_700_000_000_123_456, "2023-11-14T22:13:20.123456Z"),
            (i64::MAX, "9999-12-31T23:59:59.999999Z"),
            (i64::MIN, "1970-01-01T00:00:00.000000Z"),
        ] {
            assert_eq!(rfc3339(at), text);
        }
    }
}
