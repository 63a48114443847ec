//! The tokens of a text, each with its place. The rules are PostgreSQL's (its manual, section 4.1).

use logos::{FilterResult, Lexer, Logos};

use super::keyword::Keyword;
use crate::query::QueryError;

/// Where a token starts: line and column, both counted from 1, the column in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Location {
    pub(crate) line: u64,
    pub(crate) column: u64,
}

/// A name, or a word of the language.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Word {
    /// As written, without quotes.
    pub(super) value: String,
    pub(super) quoted: bool,
    pub(super) keyword: Keyword,
}

/// Why a piece of text is no token.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Malformed {
    #[default]
    Character,
    OpenText,
    OpenName,
    OpenComment,
    EmptyName,
    Number,
    PrefixedText,
    DollarQuoted,
}

impl Malformed {
    /// What is wrong with `text`, and what would be right.
    pub(super) fn explain(&self, text: &str) -> (String, &'static str) {
        let text = excerpt(text);
        match self {
            Malformed::Character => (format!("unexpected {text}"), "SQL"),
            Malformed::OpenText => ("this text has no closing quote".into(), "'…'; a quote within it is written ''"),
            Malformed::OpenName => {
                ("this name has no closing quote".into(), "\"…\"; a quote within it is written \"\"")
            }
            Malformed::OpenComment => ("this comment is not closed".into(), "/* … */"),
            Malformed::EmptyName => ("an empty name".into(), "a name"),
            Malformed::Number => (format!("{text} is not a number"), "digits, as in 12 or 3.5 or 1e6"),
            Malformed::PrefixedText => (format!("{text}…' is not supported"), "'…' without a prefix"),
            Malformed::DollarQuoted => ("dollar quotes are not supported".into(), "'…'"),
        }
    }
}

#[derive(Logos, Clone, Debug, PartialEq)]
#[logos(error = Malformed)]
#[logos(skip(r"[ \t\r\n\x0B\x0C]+"))]
#[logos(skip(r"--[^\r\n]*", allow_greedy = true))]
pub(super) enum Token {
    /// After the last token.
    EndOfText,

    #[regex(r"[A-Za-z_\u{80}-\u{10FFFF}][A-Za-z0-9_$\u{80}-\u{10FFFF}]*", bare)]
    #[token("\"", quoted)]
    Word(Word),
    /// As written.
    #[regex(r"[0-9]+(\.[0-9]*)?([eE][+-]?[0-9]+)?", digits)]
    #[regex(r"\.[0-9]+([eE][+-]?[0-9]+)?", digits)]
    Number(String),
    /// Between single quotes, without them.
    #[token("'", text)]
    Text(String),

    #[token("(")]
    LParen,
    #[token(")")]
    RParen,
    #[token(",")]
    Comma,
    #[token(";")]
    Semicolon,
    #[token(".")]
    Period,
    #[token(":")]
    Colon,
    #[token("::")]
    DoubleColon,
    #[token("=")]
    Eq,
    #[token("<>")]
    #[token("!=")]
    Ne,
    #[token("<")]
    Lt,
    #[token("<=")]
    Le,
    #[token(">")]
    Gt,
    #[token(">=")]
    Ge,
    #[token("+")]
    Plus,
    #[token("-")]
    Minus,
    #[token("*")]
    Star,
    #[token("/")]
    Slash,
    #[token("%")]
    Percent,
    #[token("||")]
    Concat,
    #[token("->")]
    Arrow,
    #[token("->>")]
    ArrowText,
    #[token("#>")]
    Path,
    #[token("#>>")]
    PathText,
    #[token("@>")]
    Contains,
    #[token("&&")]
    Overlaps,
    /// An operator that no rule of the grammar knows.
    #[regex(r"[~!@#^&|`?\[\]{}\\]")]
    Other,

    /// Left out of what [`tokens`] gives.
    #[token("/*", comment)]
    #[regex(r"([eEbBxXnN]|[uU]&)'", prefixed)]
    #[regex(r"\$([A-Za-z_\u{80}-\u{10FFFF}][A-Za-z0-9_\u{80}-\u{10FFFF}]*)?\$", dollar_quoted)]
    Comment,
}

/// The beginning of `text`, for a message.
pub(super) fn excerpt(text: &str) -> String {
    match text.char_indices().nth(40) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text.to_string(),
    }
}

/// A text that cannot be taken, and what would have been understood.
pub(crate) fn invalid(at: Location, message: impl Into<String>, expected: impl Into<String>) -> QueryError {
    QueryError::Invalid { line: at.line, column: at.column, message: message.into(), expected: expected.into() }
}

/// A token, where it starts, and its text.
#[derive(Clone, Debug)]
pub(super) struct Spanned<'t> {
    pub(super) token: Token,
    pub(super) at: Location,
    pub(super) text: &'t str,
}

/// The first piece that is no token.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct LexError<'t> {
    pub(super) why: Malformed,
    pub(super) at: Location,
    pub(super) text: &'t str,
}

/// The tokens of `text` without blanks and comments, and where the text ends.
///
/// # Errors
///
/// The first piece that is no token.
pub(super) fn tokens(text: &str) -> Result<(Vec<Spanned<'_>>, Location), LexError<'_>> {
    let mut lexer = Token::lexer(text);
    let (mut tokens, mut place) = (Vec::new(), Place { text, seen: 0, line: 1, column: 1 });
    while let Some(found) = lexer.next() {
        let (at, text) = (place.of(lexer.span().start), lexer.slice());
        match found {
            Ok(token) => tokens.push(Spanned { token, at, text }),
            Err(why) => return Err(LexError { why, at, text }),
        }
    }
    let end = place.of(text.trim_end().len());
    Ok((tokens, end))
}

/// Counts lines and characters while tokens pass, so that a long text is counted once.
struct Place<'t> {
    text: &'t str,
    /// The bytes that are counted.
    seen: usize,
    line: u64,
    column: u64,
}

impl Place<'_> {
    fn of(&mut self, byte: usize) -> Location {
        for c in self.text.get(self.seen..byte).unwrap_or_default().chars() {
            if c == '\n' {
                (self.line, self.column) = (self.line + 1, 1);
            } else {
                self.column += 1;
            }
        }
        self.seen = self.seen.max(byte);
        Location { line: self.line, column: self.column }
    }
}

fn bare(lexer: &mut Lexer<'_, Token>) -> Word {
    let text = lexer.slice();
    Word { value: text.to_string(), quoted: false, keyword: Keyword::of(text) }
}

fn quoted(lexer: &mut Lexer<'_, Token>) -> Result<Word, Malformed> {
    let value = until_quote(lexer, '"').ok_or(Malformed::OpenName)?;
    if value.is_empty() {
        return Err(Malformed::EmptyName);
    }
    Ok(Word { value, quoted: true, keyword: Keyword::Other })
}

fn text(lexer: &mut Lexer<'_, Token>) -> Result<String, Malformed> {
    until_quote(lexer, '\'').ok_or(Malformed::OpenText)
}

/// What stands before the closing quote; a doubled quote is one that belongs to it.
fn until_quote(lexer: &mut Lexer<'_, Token>, quote: char) -> Option<String> {
    let rest = lexer.remainder();
    let (mut value, mut from) = (String::new(), 0);
    while let Some(i) = rest[from..].find(quote) {
        value.push_str(&rest[from..from + i]);
        from += i + 1;
        if !rest[from..].starts_with(quote) {
            lexer.bump(from);
            return Some(value);
        }
        value.push(quote);
        from += 1;
    }
    None
}

/// A number that nothing of a name touches: `12ab` and `1.2.3` are no numbers.
fn digits(lexer: &mut Lexer<'_, Token>) -> Result<String, Malformed> {
    let touches = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.') || !c.is_ascii();
    let rest = lexer.remainder();
    match rest.find(|c| !touches(c)).unwrap_or(rest.len()) {
        0 => Ok(lexer.slice().to_string()),
        junk => {
            lexer.bump(junk);
            Err(Malformed::Number)
        }
    }
}

fn prefixed(_: &mut Lexer<'_, Token>) -> Result<(), Malformed> {
    Err(Malformed::PrefixedText)
}

fn dollar_quoted(_: &mut Lexer<'_, Token>) -> Result<(), Malformed> {
    Err(Malformed::DollarQuoted)
}

/// A comment between `/*` and `*/`, which may hold others.
fn comment(lexer: &mut Lexer<'_, Token>) -> FilterResult<(), Malformed> {
    let rest = lexer.remainder();
    let (mut open, mut from) = (1usize, 0);
    while let Some(i) = rest[from..].find(['/', '*']) {
        from += i;
        let both = &rest.as_bytes()[from..rest.len().min(from + 2)];
        (open, from) = match both {
            b"/*" => (open + 1, from + 2),
            b"*/" => (open - 1, from + 2),
            _ => (open, from + 1),
        };
        if open == 0 {
            lexer.bump(from);
            return FilterResult::Skip;
        }
    }
    FilterResult::Error(Malformed::OpenComment)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(text: &str) -> Vec<Token> {
        tokens(text).unwrap().0.into_iter().map(|t| t.token).collect()
    }

    fn word(value: &str, quoted: bool) -> Token {
        let keyword = if quoted { Keyword::Other } else { Keyword::of(value) };
        Token::Word(Word { value: value.into(), quoted, keyword })
    }

    #[test]
    fn names_texts_numbers_and_comments_are_postgresqls() {
        use Token::*;
        assert_eq!(
            all("größe_1$ \"a\"\"B\" SELECT"),
            [word("größe_1$", false), word("a\"B", true), word("SELECT", false)]
        );
        assert_eq!(all("'it''s' '' '--'"), [Text("it's".into()), Text(String::new()), Text("--".into())]);
        assert_eq!(all("1 2.5 3. .5 1e-3"), ["1", "2.5", "3.", ".5", "1e-3"].map(|n| Number(n.into())));
        assert_eq!(all("a/* b /* c */ d */e -- f\n.g"), [word("a", false), word("e", false), Period, word("g", false)]);
        assert_eq!(all("->->>#>#>>@>&&-"), [Arrow, ArrowText, Path, PathText, Contains, Overlaps, Minus]);
        assert_eq!(all("<>!=<=>=<>::||:"), [Ne, Ne, Le, Ge, Ne, DoubleColon, Concat, Colon]);
    }

    #[test]
    fn what_is_no_token_is_refused_at_its_place() {
        let cases = [
            ("a 'b", Malformed::OpenText, 3),
            ("a \"b", Malformed::OpenName, 3),
            ("a \"\"", Malformed::EmptyName, 3),
            ("ä /* /* */", Malformed::OpenComment, 3),
            ("1a", Malformed::Number, 1),
            ("0x1F", Malformed::Number, 1),
            ("1.2.3", Malformed::Number, 1),
            ("E'a'", Malformed::PrefixedText, 1),
            ("U&'a'", Malformed::PrefixedText, 1),
            ("$$a$$", Malformed::DollarQuoted, 1),
            ("a = \u{0}", Malformed::Character, 5),
        ];
        for (text, why, column) in cases {
            let error = tokens(text).unwrap_err();
            assert_eq!((error.why, error.at), (why, Location { line: 1, column }), "{text}");
        }
    }

    #[test]
    fn places_count_lines_and_characters() {
        let (tokens, end) = tokens("ä\n  b 'x\ny' c\n").unwrap();
        let places: Vec<_> = tokens.iter().map(|t| (t.at.line, t.at.column)).collect();
        assert_eq!(places, [(1, 1), (2, 3), (2, 5), (3, 4)]);
        assert_eq!(end, Location { line: 3, column: 5 });
    }
}
