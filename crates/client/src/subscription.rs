//! A live query that outlives its connection: it goes on elsewhere, with what was missed or a whole result.

use std::time::Duration;

use backon::{BackoffBuilder, ExponentialBackoff, ExponentialBuilder};
use gossip_protocol::call::Subscribe;
use gossip_protocol::code;
use serde_json::{Map, Value as Json};

use crate::result_set::Applied;
use crate::{ClientError, Incoming, ResultSet, Session};

/// The first pause before another attempt, and the longest. Jitter can double both.
const FIRST_PAUSE: Duration = Duration::from_millis(50);
const LONGEST_PAUSE: Duration = Duration::from_millis(2_500);

/// Silence after which a connection counts as lost: an instance says every second or two how current it is.
const SILENCE: Duration = Duration::from_secs(10);

/// What became of the result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum SubscriptionEvent {
    /// The result is whole, for this reason: `first`, or as a snapshot says it.
    Whole(String),
    /// It goes on where it was, on a new connection; what was missed follows.
    Resumed,
    /// It changed by a delta.
    Changed,
    /// The connection was lost, for this reason. The next call makes another one.
    Lost(String),
}

/// Pauses between attempts to connect: longer and longer, and never the same for all clients.
pub fn pauses() -> ExponentialBackoff {
    let from = ExponentialBuilder::default().with_min_delay(FIRST_PAUSE).with_max_delay(LONGEST_PAUSE);
    from.with_jitter().without_max_times().build()
}

/// A live query over whichever instance can be reached.
#[derive(Debug)]
pub struct ReconnectingSubscription {
    urls: Vec<String>,
    token: Option<String>,
    query: String,
    params: Map<String, Json>,
    session: Option<Session>,
    live: Option<ResultSet>,
    /// Whether all parts of the result have come, so that one can go on from its cursor.
    complete: bool,
    /// The instance that is tried next.
    at: usize,
    pauses: ExponentialBackoff,
}

impl ReconnectingSubscription {
    /// Follows a query at these instances, beginning with the first.
    pub fn new(
        urls: Vec<String>,
        token: Option<String>,
        query: &str,
        params: Map<String, Json>,
    ) -> ReconnectingSubscription {
        ReconnectingSubscription {
            urls,
            token,
            query: query.into(),
            params,
            session: None,
            live: None,
            complete: false,
            at: 0,
            pauses: pauses(),
        }
    }

    /// The result as it is known; `None` before the first.
    pub fn live(&self) -> Option<&ResultSet> {
        self.live.as_ref()
    }

    /// The instance that it hears, or tries next.
    pub fn url(&self) -> &str {
        self.urls.get(self.at % self.urls.len().max(1)).map_or("", String::as_str)
    }

    /// Waits for what comes next. May be dropped and called again.
    ///
    /// # Errors
    /// The query is refused, or ended by the instance: another connection would not help.
    pub async fn next(&mut self) -> Result<SubscriptionEvent, ClientError> {
        loop {
            let (Some(session), Some(live)) = (&mut self.session, &mut self.live) else {
                match self.connect().await {
                    Ok(begun) => return Ok(begun),
                    Err(ClientError::Refused(e)) if !matches!(e.code, code::UNAVAILABLE | code::LIMIT) => {
                        return Err(ClientError::Refused(e));
                    }
                    Err(e @ ClientError::Url(..)) => return Err(e),
                    Err(_) => continue,
                }
            };
            let lost = match tokio::time::timeout(SILENCE, session.next()).await {
                Ok(Ok((Incoming::Notification(told), _))) => match live.apply(&told) {
                    Ok(Applied::NotMine) => continue,
                    Ok(Applied::Whole(why)) => {
                        self.complete = !live.unfinished;
                        return Ok(SubscriptionEvent::Whole(why));
                    }
                    Ok(Applied::Changed) => {
                        self.complete |= !live.unfinished;
                        return Ok(SubscriptionEvent::Changed);
                    }
                    Ok(Applied::Closed(why)) => return Err(ClientError::Ended(why)),
                    Err(e) => {
                        // What is known is not right: a whole result is.
                        self.live = None;
                        e
                    }
                },
                Ok(Ok((Incoming::Answer(..), _))) => continue,
                Ok(Err(e)) => e.to_string(),
                Err(_) => "silence".into(),
            };
            self.session = None;
            self.at += 1;
            return Ok(SubscriptionEvent::Lost(lost));
        }
    }

    async fn connect(&mut self) -> Result<SubscriptionEvent, ClientError> {
        let url = self.url().to_string();
        let begun = self.begin(&url).await;
        if begun.is_ok() {
            self.pauses = pauses();
        } else {
            self.at += 1;
            tokio::time::sleep(self.pauses.next().unwrap_or(LONGEST_PAUSE)).await;
        }
        begun
    }

    async fn begin(&mut self, url: &str) -> Result<SubscriptionEvent, ClientError> {
        let mut session = Session::connect(url, self.token.as_deref()).await?;
        let known = self.live.as_ref().filter(|_| self.complete);
        let asked = Subscribe {
            query: Some(self.query.clone()),
            params: self.params.clone(),
            cursor: known.map(|live| live.cursor.clone()),
            ..Subscribe::default()
        };
        let answer = session.subscribe(asked).await?;
        let why = answer.why.clone().unwrap_or_else(|| "first".into());
        self.complete = answer.resumed || !answer.more;
        let followed = if answer.resumed { SubscriptionEvent::Resumed } else { SubscriptionEvent::Whole(why) };
        match &mut self.live {
            Some(live) => live.go_on(answer),
            None => self.live = Some(ResultSet::new(answer)),
        }
        self.session = Some(session);
        Ok(followed)
    }
}
