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
    And Any As Asc Between Both By Case Cast Collate Cross Desc Distinct Else End Escape Except Exists False Fetch Filter
    First For From Full Group Having Ilike In Inner Intersect Is Join Last Leading Left Like Limit Natural Not Null Nulls
    Offset On Or Order Right Select Some Then Trailing True Union Unknown Using When Where Window With
}

impl Keyword {
    /// Whether it can be a name only in quotes.
    pub(super) fn is_reserved(self) -> bool {
        use Keyword::{Any, By, Escape, Filter, First, Last, Nulls, Other, Some, Unknown};
        !matches!(self, Other | Any | By | Escape | Filter | First | Last | Nulls | Some | Unknown)
    }
}
