//! The tokens of an expression as SQLite keeps it in its schema, which the database itself has parsed before.

use logos::Logos;

/// A token; its text is what [`tokens`] gives beside it.
#[derive(Logos, Clone, Debug, PartialEq, Eq)]
pub enum Token {
    /// Blanks and comments.
    #[regex(r"[ \t\r\n\x0C]+")]
    #[regex(r"--[^\n]*", allow_greedy = true)]
    #[regex(r"/\*([^*]|\*+[^*/])*\*+/")]
    Blank,
    /// A name or a word of the language, without quotes.
    #[regex(r"[A-Za-z_\u{80}-\u{10FFFF}][A-Za-z0-9_$\u{80}-\u{10FFFF}]*", |lexer| lexer.slice().to_string())]
    #[regex(r#""([^"]|"")*""#, |lexer| unquoted(lexer.slice(), '"'))]
    #[regex(r"`([^`]|``)*`", |lexer| unquoted(lexer.slice(), '`'))]
    #[regex(r"\[[^\]]*\]", |lexer| unquoted(lexer.slice(), ']'))]
    Word(String),
    /// A text or a blob.
    #[regex(r"[xX]?'([^']|'')*'")]
    Text,
    /// A number; what a name could begin with belongs to it, as in `0x1F` and `1e6`.
    #[regex(r"[0-9.][0-9A-Za-z_.]*")]
    Number,
    #[token("(")]
    LParen,
    #[token(")")]
    RParen,
    #[token(",")]
    Comma,
    /// Any other character.
    #[regex(r"(?s).", priority = 0)]
    Other,
}

fn unquoted(text: &str, quote: char) -> String {
    let inner = &text[1..text.len() - 1];
    inner.replace(&format!("{quote}{quote}"), &quote.to_string())
}

/// The tokens of `sql`, each with its text. Together the texts are `sql` again.
pub fn tokens(sql: &str) -> Vec<(Token, &str)> {
    Token::lexer(sql).spanned().map(|(token, span)| (token.unwrap_or(Token::Other), &sql[span])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_expression_is_its_tokens() {
        let sql = "lower(\"a\"\"b\") || [c d] || `e` -- it's\n + x'00' /* ' */ ~ 0x1F - .5e3, 'it''s'";
        let found = tokens(sql);
        assert_eq!(found.iter().map(|(_, text)| *text).collect::<String>(), sql);
        let words: Vec<&str> =
            found.iter().filter_map(|(t, _)| if let Token::Word(w) = t { Some(&**w) } else { None }).collect();
        assert_eq!(words, ["lower", "a\"b", "c d", "e"]);
        let count = |wanted: Token| found.iter().filter(|(t, _)| *t == wanted).count();
        assert_eq!((count(Token::Text), count(Token::Number), count(Token::Comma)), (2, 2, 1));
    }

    #[test]
    fn no_text_is_lost_where_it_is_no_sql() {
        for sql in ["'open", "\"open", "[open", "/* open", "a \u{0} b", "ä€'"] {
            assert_eq!(tokens(sql).iter().map(|(_, text)| *text).collect::<String>(), sql);
        }
    }
}
