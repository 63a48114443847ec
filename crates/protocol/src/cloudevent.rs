//! Events in the words of CloudEvents 1.0, JSON format: what is said on a broker beside intervals, and what others may
//! publish there.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

/// Most bytes of one event.
pub const MAX_EVENT: usize = 256 * 1024;

/// The attribute, an extension, that holds the subject of the client that published an event.
pub const SENDER: &str = "sender";

/// An event (CloudEvents 1.0). `source` and `id` together name it.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CloudEvent {
    /// The version of the standard: `1.0`.
    pub specversion: String,
    /// Its id, unique for its `source`.
    pub id: String,
    /// Who says so, as a URI reference.
    pub source: String,
    /// Its type.
    #[serde(rename = "type")]
    pub kind: String,
    /// What or whom it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subject: Option<String>,
    /// When it happened, RFC 3339.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<String>,
    /// The form of the data; only JSON is read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub datacontenttype: Option<String>,
    /// The data.
    #[serde(default)]
    pub data: Json,
    /// Extension attributes, and those of the standard that are not used here.
    #[serde(flatten)]
    pub more: Map<String, Json>,
}

impl CloudEvent {
    /// An event of an instance's own.
    pub fn new(kind: &str, source: &str, id: String, time: String, data: Json) -> CloudEvent {
        CloudEvent {
            specversion: "1.0".into(),
            id,
            source: source.into(),
            kind: kind.into(),
            subject: None,
            time: Some(time),
            datacontenttype: Some("application/json".into()),
            data,
            more: Map::new(),
        }
    }

    /// Reads an event.
    ///
    /// # Errors
    /// What is not as the standard has it, without any of its values.
    pub fn read(bytes: &[u8]) -> Result<CloudEvent, String> {
        if bytes.len() > MAX_EVENT {
            return Err(format!("an event has at most {MAX_EVENT} bytes"));
        }
        let event: CloudEvent = serde_json::from_slice(bytes).map_err(|e| {
            let what = if e.is_data() { "not a CloudEvent in JSON format" } else { "not JSON" };
            format!("{what}: line {}, column {}", e.line(), e.column())
        })?;
        event.check()?;
        Ok(event)
    }

    /// Whether it is as the standard has it.
    ///
    /// # Errors
    /// What is not.
    pub fn check(&self) -> Result<(), String> {
        if self.specversion != "1.0" {
            return Err("specversion: expected 1.0".into());
        }
        for (name, value) in [("id", &self.id), ("source", &self.source), ("type", &self.kind)] {
            if value.is_empty() || value.len() > 1_024 {
                return Err(format!("{name}: expected 1 to 1024 bytes"));
            }
        }
        if self.more.contains_key("data_base64") {
            return Err("data_base64: only JSON data is read".into());
        }
        match self.datacontenttype.as_deref() {
            None => Ok(()),
            Some(form) => {
                let media = form.split(';').next().unwrap_or("").trim().to_ascii_lowercase();
                let json = media == "application/json" || media == "text/json" || media.ends_with("+json");
                if json { Ok(()) } else { Err("datacontenttype: only JSON data is read".into()) }
            }
        }
    }

    /// As text.
    pub fn to_bytes(&self) -> Vec<u8> {
        // Maps with texts as keys cannot fail.
        serde_json::to_vec(self).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn events_are_read_as_the_standard_has_them() {
        let text = r#"{"specversion":"1.0","id":"1","source":"/gauges","type":"tide","traceparent":"00-1","data":{"level":3.5}}"#;
        let event = CloudEvent::read(text.as_bytes()).unwrap();
        assert_eq!(event.data["level"], 3.5);
        assert_eq!(event.more["traceparent"], "00-1");
        assert_eq!(CloudEvent::read(&event.to_bytes()).unwrap(), event);
        for (bad, why) in [
            (r#"{"specversion":"0.3","id":"1","source":"/g","type":"t"}"#, "specversion"),
            (r#"{"specversion":"1.0","id":"","source":"/g","type":"t"}"#, "id"),
            (r#"{"specversion":"1.0","source":"/g","type":"t"}"#, "not a CloudEvent"),
            (
                r#"{"specversion":"1.0","id":"1","source":"/g","type":"t","datacontenttype":"text/xml"}"#,
                "datacontenttype",
            ),
            (r#"{"specversion":"1.0","id":"1","source":"/g","type":"t","data_base64":"AA=="}"#, "data_base64"),
            ("{", "not JSON"),
            ("[]", "not a CloudEvent"),
        ] {
            let e = CloudEvent::read(bad.as_bytes()).unwrap_err();
            assert!(e.contains(why), "{bad}: {e}");
        }
        assert!(CloudEvent::read(&vec![b' '; MAX_EVENT + 1]).is_err());
    }
}
