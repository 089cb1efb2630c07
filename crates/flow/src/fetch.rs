//! Inputs from http and https URLs.

use std::time::Duration;

#[cfg(feature = "url")]
use kyanite_tree::{Advice, Setting};
use kyanite_tree::{Code, Diagnostic};

use crate::{Bytes, RunError};

/// How URLs are fetched.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Fetch {
    /// Header fields that are sent along.
    pub headers: Vec<(String, String)>,
    /// How long the whole answer may take.
    pub timeout: Duration,
}

impl Default for Fetch {
    fn default() -> Self {
        Self { headers: Vec::new(), timeout: Duration::from_secs(30) }
    }
}

/// An answer under way.
pub(crate) struct Answer {
    pub(crate) reader: Bytes,
    pub(crate) media_type: Option<String>,
}

/// Gets what is at `url` (RFC 9110, GET).
#[cfg(not(feature = "url"))]
pub(crate) fn get(url: &str, _fetch: &Fetch) -> Result<Answer, RunError> {
    let message =
        format!("{url} cannot be fetched: this program was built without the feature url");
    Err(RunError::Input(Diagnostic::error(Code::InputFetch, message)))
}

/// Gets what is at `url` (RFC 9110, GET).
#[cfg(feature = "url")]
pub(crate) fn get(url: &str, fetch: &Fetch) -> Result<Answer, RunError> {
    let config = ureq::Agent::config_builder()
        .timeout_global(Some(fetch.timeout))
        .http_status_as_error(false)
        .user_agent(concat!("kyanite/", env!("CARGO_PKG_VERSION")))
        .build();
    let mut request = ureq::Agent::new_with_config(config).get(url);
    for (name, value) in &fetch.headers {
        request = request.header(name, value);
    }
    let response = request.call().map_err(|error| refused(url, &error))?;
    let status = response.status();
    if !status.is_success() {
        let problem =
            Diagnostic::error(Code::InputFetch, format!("{url} answers with status {status}"));
        let advice: Option<Advice> = match status.as_u16() {
            401 | 403 => Some(
                Advice::words("say who you are with ")
                    .setting(Setting::Header)
                    .then(" 'Authorization: …'"),
            ),
            404 | 410 => Some("check the address".into()),
            429 | 500..=599 => Some("try again later".into()),
            _ => None,
        };
        return Err(RunError::Input(problem.advise_opt(advice)));
    }
    let media_type = response
        .headers()
        .get("content-type")
        .and_then(|value| value.to_str().ok())
        .map(str::to_owned);
    Ok(Answer { reader: Box::new(response.into_body().into_reader()), media_type })
}

#[cfg(feature = "url")]
fn refused(url: &str, error: &ureq::Error) -> RunError {
    let problem = match error {
        ureq::Error::Timeout(_) => {
            Diagnostic::error(Code::InputFetch, format!("{url} did not answer in time"))
                .advise(("allow more with ", Setting::Timeout))
        }
        ureq::Error::BadUri(_) => {
            Diagnostic::error(Code::InputFetch, format!("{url} is no address: {error}"))
                .advise("it is written http://host/path")
        }
        ureq::Error::HostNotFound => {
            Diagnostic::error(Code::InputFetch, format!("the host of {url} is not known"))
                .advise("check the address, and the connection")
        }
        _ => Diagnostic::error(Code::InputFetch, format!("{url} cannot be fetched: {error}")),
    };
    RunError::Input(problem)
}
