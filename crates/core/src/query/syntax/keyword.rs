//! The words that the grammar knows.

macro_rules! keywords {
    ($($name:ident)*) => {
        /// A word of the language.
        #[derive(Clone, Copy, Debug, PartialEq, Eq)]
        pub(super) enum Keyword {
            /// Any other word.
            Other,
            $($name),*
        }

        impl Keyword {
            /// The keyword that an unquoted word is, in upper or lower case.
            pub(super) fn of(word: &str) -> Keyword {
                $(if word.eq_ignore_ascii_case(stringify!($name)) {
                    return Keyword::$name;
                })*
                Keyword::Other
            }
        }
    };
}

keywords! {
    And Any As Between Case Cast Cross Distinct Escape Except Exists False Fetch For From Full Group Having In Inner
    Intersect Is Join Left Like Limit Natural Not Null Offset On Or Order Right Select Some True Union Using Where
    Window With
}

impl Keyword {
    /// Whether it can be a name only in quotes.
    pub(super) fn is_reserved(self) -> bool {
        !matches!(self, Keyword::Other | Keyword::Any | Keyword::Escape | Keyword::Some)
    }
}
