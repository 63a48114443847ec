//! The parameters of a call, read one by one: an error names the parameter and says what is expected, and repeats no
//! value, since a token or a person's data may stand where it does not belong.

use serde_json::{Map, Value as Json};

use crate::error::RpcError;
use crate::spelling::{shortened, similar};

/// The parameters of one call. What was read is taken out; [`Params::end`] finds what was not known.
pub struct Params {
    given: Map<String, Json>,
    /// The parameters that the call has read so far.
    known: Vec<&'static str>,
}

impl Params {
    /// Begins to read.
    pub fn new(given: Map<String, Json>) -> Params {
        Params { given, known: Vec::new() }
    }

    /// Any value.
    pub fn any(&mut self, name: &'static str) -> Option<Json> {
        self.known.push(name);
        self.given.remove(name)
    }

    /// Whether a parameter is there and was not read yet.
    pub fn has(&self, name: &str) -> bool {
        self.given.contains_key(name)
    }

    /// A text.
    ///
    /// # Errors
    /// It is no text.
    pub fn text(&mut self, name: &'static str) -> Result<Option<String>, RpcError> {
        match self.any(name) {
            None => Ok(None),
            Some(Json::String(s)) => Ok(Some(s)),
            Some(_) => Err(RpcError::invalid(format!("{name}: expected a text"))),
        }
    }

    /// A text, which has to be there.
    ///
    /// # Errors
    /// It is missing, or no text.
    pub fn required_text(&mut self, name: &'static str) -> Result<String, RpcError> {
        self.text(name)?.ok_or_else(|| RpcError::missing(name))
    }

    /// Yes or no.
    ///
    /// # Errors
    /// It is neither.
    pub fn flag(&mut self, name: &'static str) -> Result<Option<bool>, RpcError> {
        match self.any(name) {
            None => Ok(None),
            Some(Json::Bool(yes)) => Ok(Some(yes)),
            Some(_) => Err(RpcError::invalid(format!("{name}: expected true or false"))),
        }
    }

    /// An object; empty if it is not there.
    ///
    /// # Errors
    /// It is no object.
    pub fn object(&mut self, name: &'static str) -> Result<Map<String, Json>, RpcError> {
        match self.any(name) {
            None => Ok(Map::new()),
            Some(Json::Object(o)) => Ok(o),
            Some(_) => Err(RpcError::invalid(format!("{name}: expected an object"))),
        }
    }

    /// A number, which has to be there.
    ///
    /// # Errors
    /// It is missing, or no number.
    pub fn number(&mut self, name: &'static str) -> Result<u64, RpcError> {
        match self.any(name) {
            None => Err(RpcError::missing(name)),
            Some(v) => v.as_u64().ok_or_else(|| RpcError::invalid(format!("{name}: expected a number"))),
        }
    }

    /// A number within a limit.
    ///
    /// # Errors
    /// It is no number within the limit.
    pub fn number_up_to(&mut self, name: &'static str, most: u64) -> Result<Option<u64>, RpcError> {
        match self.any(name) {
            None => Ok(None),
            Some(v) => match v.as_u64().filter(|n| *n <= most) {
                Some(n) => Ok(Some(n)),
                None => Err(RpcError::invalid(format!("{name}: expected a number from 0 to {most}"))),
            },
        }
    }

    /// A list of anything, which has to be there and may have so many entries.
    ///
    /// # Errors
    /// It is missing, no list, or too long.
    pub fn list_up_to(&mut self, name: &'static str, most: usize) -> Result<Vec<Json>, RpcError> {
        match self.any(name) {
            None => Err(RpcError::missing(name)),
            Some(Json::Array(list)) if list.len() <= most => Ok(list),
            Some(Json::Array(_)) => {
                Err(RpcError::new(crate::code::LIMIT, format!("limit reached: {name}, at most {most}")))
            }
            Some(_) => Err(RpcError::invalid(format!("{name}: expected a list"))),
        }
    }

    /// A list of texts; `None` if it is not there.
    ///
    /// # Errors
    /// It is no list of texts.
    pub fn texts(&mut self, name: &'static str) -> Result<Option<Vec<String>>, RpcError> {
        let Some(list) = self.any(name) else { return Ok(None) };
        let wrong = |_| RpcError::invalid(format!("{name}: expected a list of texts"));
        serde_json::from_value(list).map(Some).map_err(wrong)
    }

    /// Refuses parameters that were not read.
    ///
    /// # Errors
    /// One that the call does not know, with what may have been meant.
    pub fn end(self) -> Result<(), RpcError> {
        let Some(stray) = self.given.keys().next() else { return Ok(()) };
        let hint = match similar(stray, self.known.iter().copied()) {
            Some(hint) => format!("did you mean {hint}?"),
            None => format!("known: {}", self.known.join(", ")),
        };
        Err(RpcError::invalid(format!("{} is not a parameter of this call; {hint}", shortened(stray))))
    }
}
