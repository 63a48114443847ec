//! Names as people write them in SQL.

/// Words that SQLite takes for its own where a name stands, unless they are in quotes.
const RESERVED: &str = "ADD ALL ALTER AND AS AUTOINCREMENT BETWEEN CASE CHECK COLLATE COMMIT CONSTRAINT CREATE CROSS \
    CURRENT_DATE CURRENT_TIME CURRENT_TIMESTAMP DEFAULT DEFERRABLE DELETE DISTINCT DROP ELSE ESCAPE EXCEPT EXISTS FILTER \
    FOREIGN FROM FULL GROUP HAVING IN INDEX INDEXED INNER INSERT INTERSECT INTO IS ISNULL JOIN LEFT LIMIT NATURAL NOT \
    NOTHING NOTNULL NULL ON OR ORDER OUTER OVER PRIMARY REFERENCES RETURNING RIGHT SELECT SET TABLE THEN TO TRANSACTION \
    UNION UNIQUE UPDATE USING VALUES WHEN WHERE WINDOW WITH";

/// A name as it stands in SQL, in quotes only where it needs them.
pub fn name(text: &str) -> String {
    let letters = text.chars().all(|c| c.is_ascii_alphanumeric() || c == '_');
    let begins = text.starts_with(|c: char| !c.is_ascii_digit());
    let reserved = RESERVED.split_whitespace().any(|word| word.eq_ignore_ascii_case(text));
    if letters && begins && !reserved { text.to_string() } else { format!("\"{}\"", text.replace('"', "\"\"")) }
}

#[cfg(test)]
mod tests {
    use super::name;

    #[test]
    fn names_are_in_quotes_where_they_need_them() {
        for (text, expected) in
            [("kilos", "kilos"), ("my \"kilos\"", "\"my \"\"kilos\"\"\""), ("order", "\"order\""), ("1st", "\"1st\"")]
        {
            assert_eq!(name(text), expected);
        }
    }
}
