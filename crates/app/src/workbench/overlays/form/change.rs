//! Make a change: a form for the database's tables that produces SQL.
//!
//! The form is updated after every key: another table has other rows and columns. Its result is plain SQL, shown
//! while the form is filled in, and run on the database as any other program would, once or repeatedly.

use crate::workbench::input::Input;
use crate::workbench::line::{Line, RowShown};
use crate::workbench::message::Effect;
use crate::workbench::overlays::form::state::{Field, Form, FormKind};
use crate::workbench::state::State;
use crate::workbench::words::plain;
use gossip_source::database::{Column, Inspected};
use gossip_source::sql_name::name;
use serde_json::{Map, Value as Json};

/// The kinds of change.
const WHAT: [&str; 4] = ["update a row", "insert a row", "delete a row", "SQL"];

/// Most columns of an insert that have their own field; the others get their defaults.
const MOST: usize = 12;

/// Most repetitions, and highest rate per second.
const MOST_TIMES: u64 = 1_000_000;

/// A text field.
fn typed(label: &str, text: &str, offers: Vec<String>) -> Field {
    Field { label: label.into(), input: Input::new(text), choices: vec![], offers }
}

fn chosen(label: &str, text: &str, choices: Vec<String>) -> Field {
    Field { label: label.into(), input: Input::new(text), choices, offers: vec![] }
}

fn get<'a>(form: &'a Form, label: &str) -> Option<&'a str> {
    form.fields.iter().find(|f| f.label == label).map(|f| f.input.text())
}

/// The initial form: for the selected line's row if there is one.
pub fn form(s: &State) -> (Form, Vec<Effect>) {
    let mut form = Form { kind: FormKind::Change, fields: vec![], focus: 0, problem: None, about: String::new() };
    let tables: Vec<String> = s.tables.inspected().iter().filter(|t| t.is_table).map(|t| t.name.clone()).collect();
    if tables.is_empty() {
        form.fields = vec![typed("SQL", &suggest(s), vec![]), typed("times", "1", vec![])];
        return (form, vec![]);
    }
    let of_view = match s.view {
        crate::workbench::rail::View::Tables => crate::workbench::views::tables::update::chosen(s),
        _ => s.chosen_line().and_then(|l| l.rows.first()).map(|r| r.table.clone()),
    };
    let table = of_view.filter(|t| tables.contains(t)).or_else(|| s.tables.granted());
    let table = table.filter(|t| tables.contains(t)).unwrap_or_else(|| tables[0].clone());
    form.fields = vec![chosen("what", WHAT[0], WHAT.map(String::from).to_vec()), chosen("table", &table, tables)];
    refit(s, &mut form);
    (form, looks(s, &table))
}

/// The reads that a table's form needs: its own rows, and those that it references.
fn looks(s: &State, table: &str) -> Vec<Effect> {
    let refers = inspected(s, table).into_iter().flat_map(|t| &t.columns).filter_map(|c| c.refers_to.clone());
    let mut tables: Vec<String> = refers.map(|(t, _)| t).collect();
    tables.push(table.to_string());
    tables.sort();
    tables.dedup();
    tables.into_iter().map(Effect::LookAt).collect()
}

fn inspected<'a>(s: &'a State, table: &str) -> Option<&'a Inspected> {
    s.tables.inspected().iter().find(|t| t.name == table)
}

/// Updates the fields to the current choices; typed text stays where it still applies.
pub fn refit(s: &State, form: &mut Form) -> Vec<Effect> {
    let Some(what) = get(form, "what").map(String::from) else { return vec![] };
    let table = get(form, "table").unwrap_or("").to_string();
    let before = std::mem::take(&mut form.fields);
    let old = |label: &str| before.iter().find(|f| f.label == label);
    let mut fields: Vec<Field> = before.iter().filter(|f| f.label == "what").cloned().collect();
    if what == WHAT[3] {
        fields.push(old("SQL").cloned().unwrap_or_else(|| typed("SQL", &suggest(s), vec![])));
    } else {
        fields.extend(before.iter().filter(|f| f.label == "table").cloned());
        if fields.len() < 2 {
            let tables = s.tables.inspected().iter().map(|t| t.name.clone()).collect();
            let table = s.tables.granted().unwrap_or_default();
            fields.push(chosen("table", &table, tables));
        }
        let look = s.looks.get(&table);
        let columns = inspected(s, &table).map(|t| t.columns.clone()).unwrap_or_default();
        if what != WHAT[1] {
            let rows: Vec<String> = look.map(|l| l.rows.iter().map(|(w, _)| w.clone()).collect()).unwrap_or_default();
            let line_row = s.chosen_line().and_then(|l| l.rows.iter().find(|r| r.table == table));
            let of_line = line_row.and_then(|r| look?.rows.iter().find(|(_, row)| is_row(r, row, &columns)));
            let first = of_line.map(|(w, _)| w.clone()).or_else(|| rows.first().cloned()).unwrap_or_default();
            let row = old("row").map(|f| f.input.text().to_string()).filter(|r| rows.contains(r)).unwrap_or(first);
            fields.push(chosen("row", &row, rows));
            if what == WHAT[0] {
                let names: Vec<String> = columns.iter().filter(|c| !c.key).map(|c| c.name.clone()).collect();
                let names = if names.is_empty() { columns.iter().map(|c| c.name.clone()).collect() } else { names };
                let column = old("column").map(|f| f.input.text().to_string()).filter(|c| names.contains(c));
                let column = column.or_else(|| names.first().cloned()).unwrap_or_default();
                let now = look.and_then(|l| l.rows.iter().find(|(w, _)| *w == row)).and_then(|(_, r)| r.get(&column));
                let about = format!("{row}, {column}");
                let same = std::mem::replace(&mut form.about, about.clone()) == about;
                let value = match old("value") {
                    Some(f) if same => f.input.clone(),
                    _ => Input::new(now.map(plain).unwrap_or_default()),
                };
                let declared = columns.iter().find(|c| c.name == column);
                let offers = declared.map(|c| offers(s, &table, c)).unwrap_or_default();
                fields.push(chosen("column", &column, names));
                fields.push(Field { label: "value".into(), input: value, choices: vec![], offers });
            }
        } else {
            for c in columns.iter().filter(|c| !given(c)).take(MOST) {
                let kept = old(&format!("{} =", c.name)).cloned();
                fields.push(kept.unwrap_or_else(|| typed(&format!("{} =", c.name), "", offers(s, &table, c))));
            }
        }
    }
    fields.push(old("times").cloned().unwrap_or_else(|| typed("times", "1", vec![])));
    if fields.last().is_some_and(|f| f.input.text() != "1") {
        fields.push(old("a second").cloned().unwrap_or_else(|| typed("a second", "10", vec![])));
    }
    let focus = before.get(form.focus).map(|f| f.label.clone());
    form.focus = focus.and_then(|l| fields.iter().position(|f| f.label == l)).unwrap_or(0);
    form.fields = fields;
    let needed = what != WHAT[3] && !s.looks.contains_key(&table);
    if needed { looks(s, &table) } else { vec![] }
}

/// Whether the database fills in the value.
fn given(c: &Column) -> bool {
    c.key && c.declared.eq_ignore_ascii_case("integer")
}

fn is_row(shown: &RowShown, row: &Map<String, Json>, columns: &[Column]) -> bool {
    let now = shown.new.as_ref().or(shown.old.as_ref());
    now.is_some_and(|now| columns.iter().filter(|c| c.key).all(|c| now.get(&c.name) == row.get(&c.name)))
}

/// Existing values: of the referenced table, or the column's own if there are few.
fn offers(s: &State, table: &str, column: &Column) -> Vec<String> {
    let (table, name, many) = match &column.refers_to {
        Some((to, key)) => {
            let own_key = || inspected(s, to).and_then(|t| t.columns.iter().find(|c| c.key)).map(|c| c.name.clone());
            let key = if key.is_empty() { own_key().unwrap_or_default() } else { key.clone() };
            (to.as_str(), key, 50)
        }
        None => (table, column.name.clone(), 10),
    };
    let look = s.looks.get(table);
    let mut all: Vec<String> =
        look.map(|l| l.rows.iter().filter_map(|(_, r)| r.get(&name)).map(plain).collect()).unwrap_or_default();
    all.sort();
    all.dedup();
    if all.len() > many { vec![] } else { all }
}

/// A value as SQL: NULL, a number where the column holds numbers, otherwise a text.
fn literal(text: &str, declared: &str) -> String {
    let declared = declared.to_ascii_uppercase();
    let is_text = ["CHAR", "TEXT", "CLOB"].iter().any(|t| declared.contains(t));
    match text {
        "NULL" => "NULL".into(),
        t if !is_text && (t.parse::<i64>().is_ok() || t.parse::<f64>().is_ok_and(f64::is_finite)) => t.into(),
        // Placeholders for repetitions are numbers.
        t if !is_text && matches!(t, "{n}" | "{random}") => t.into(),
        t => format!("'{}'", t.replace('\'', "''")),
    }
}

/// The SQL of a form.
///
/// # Errors
/// A value is missing, or does not fit its column.
pub fn sql(s: &State, form: &Form) -> Result<String, String> {
    if let Some(sql) = get(form, "SQL") {
        let sql = sql.trim();
        return if sql.is_empty() { Err("write the SQL that makes the change".into()) } else { Ok(sql.into()) };
    }
    let table = get(form, "table").unwrap_or("");
    let columns = inspected(s, table).map(|t| t.columns.clone()).unwrap_or_default();
    let declared = |c: &str| columns.iter().find(|x| x.name == c).map_or("", |c| c.declared.as_str()).to_string();
    let row = || get(form, "row").filter(|r| !r.is_empty()).ok_or("there is no row to choose");
    match get(form, "what").unwrap_or("") {
        "update a row" => {
            let (column, value) = (get(form, "column").unwrap_or(""), get(form, "value").unwrap_or(""));
            let value = literal(value, &declared(column));
            Ok(format!("UPDATE {} SET {} = {value} WHERE {}", name(table), name(column), row()?))
        }
        "delete a row" => Ok(format!("DELETE FROM {} WHERE {}", name(table), row()?)),
        _ => {
            let filled: Vec<(&str, &str)> = form
                .fields
                .iter()
                .filter_map(|f| Some((f.label.strip_suffix(" =")?, f.input.text().trim())))
                .filter(|(_, text)| !text.is_empty())
                .collect();
            if filled.is_empty() {
                return Ok(format!("INSERT INTO {} DEFAULT VALUES", name(table)));
            }
            let names: Vec<String> = filled.iter().map(|(c, _)| name(c)).collect();
            let values: Vec<String> = filled.iter().map(|(c, v)| literal(v, &declared(c))).collect();
            Ok(format!("INSERT INTO {} ({}) VALUES ({})", name(table), names.join(", "), values.join(", ")))
        }
    }
}

/// Number of repetitions, and rate per second.
fn pace(form: &Form) -> Result<(u64, f64), String> {
    let times = get(form, "times").unwrap_or("1").trim().parse::<u64>().ok().filter(|n| (1..=MOST_TIMES).contains(n));
    let times = times.ok_or_else(|| format!("times: expected a number from 1 to {MOST_TIMES}"))?;
    let second = get(form, "a second").unwrap_or("1").trim().parse::<f64>().ok();
    let second = second.filter(|n| *n > 0.0 && *n <= 100_000.0);
    Ok((times, second.ok_or("a second: expected a number above 0, at most 100000")?))
}

/// The SQL of a repetition.
pub fn instance_of(sql: &str, n: u64, random: u64) -> String {
    sql.replace("{n}", &n.to_string()).replace("{random}", &(random % 1_000).to_string())
}

/// Runs the SQL of a form.
///
/// # Errors
/// A value is missing, or does not fit its column.
pub fn submit(s: &mut State, form: &Form) -> Result<Vec<Effect>, String> {
    let (sql, (times, second)) = (sql(s, form)?, pace(form)?);
    if times > 1 && s.repeating {
        return Err("changes are being repeated already; S stops them".into());
    }
    if times > 1 {
        s.repeating = true;
        s.notice = Some((s.now, format!("{times} changes, {second} a second: {sql}")));
        return Ok(vec![Effect::Repeat { sql, times, second }]);
    }
    let sql = instance_of(&sql, 1, 0);
    let id = s.line_id();
    crate::workbench::views::earshot::flow::insert(s, Line::made_here(id, s.now, sql.clone()));
    // Resume the flow, so that the change is seen.
    s.held = None;
    s.chosen = Some(id);
    Ok(vec![Effect::Make(id, sql)])
}

/// Initial SQL: an update of the selected line's row.
fn suggest(s: &State) -> String {
    let row = s.chosen_line().and_then(|l| l.rows.first());
    match row {
        Some(RowShown { table, new: Some(new), .. }) => {
            let literal = |v: &Json| match v {
                Json::String(s) => format!("'{}'", s.replace('\'', "''")),
                Json::Null => "NULL".into(),
                other => other.to_string(),
            };
            let mut cells = new.iter().map(|(k, v)| format!("{} = {}", name(k), literal(v)));
            let key = cells.next().unwrap_or_default();
            format!("UPDATE {} SET {} WHERE {key}", name(table), cells.next().unwrap_or_default())
        }
        _ => "UPDATE ".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_become_sql_as_their_column_holds_them() {
        for (text, declared, expected) in [
            ("it's", "TEXT", "'it''s'"),
            ("12", "TEXT", "'12'"),
            ("12", "INTEGER", "12"),
            ("1.5", "REAL", "1.5"),
            ("NULL", "TEXT", "NULL"),
            ("inf", "REAL", "'inf'"),
            ("{n}", "INTEGER", "{n}"),
            ("crate {n}", "TEXT", "'crate {n}'"),
        ] {
            assert_eq!(literal(text, declared), expected, "{text} {declared}");
        }
        assert_eq!(instance_of("SET a = {n}, b = 'x{random}'", 7, 1_003), "SET a = 7, b = 'x3'");
    }
}
