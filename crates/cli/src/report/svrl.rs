//! The report as SVRL (ISO/IEC 19757-3 annex D): what was found in each document is an assertion that failed in it.

use kyanite_tree::Severity;

use super::markup::Markup;
use super::{Report, advice};

pub(super) fn render(report: &Report) -> String {
    let mut out = Markup::new();
    out.begin(
        "svrl:schematron-output",
        &[
            ("xmlns:svrl", "http://purl.oclc.org/dsdl/svrl"),
            ("schemaVersion", "iso"),
            ("title", ""),
        ],
    );
    for verdict in &report.verdicts {
        out.leaf("svrl:active-pattern", &[("document", &verdict.name)], "");
        for finding in &verdict.findings {
            let path =
                finding.place.as_ref().and_then(|place| place.path.as_deref()).unwrap_or("/");
            let test =
                if finding.keyword.is_empty() { finding.code.word() } else { &finding.keyword };
            let role = match finding.severity {
                Severity::Error => "error",
                Severity::Warning => "warning",
                Severity::Note => "info",
            };
            out.begin("svrl:failed-assert", &[("test", test), ("location", path), ("role", role)]);
            let text = match advice(finding) {
                Some(advice) => format!("{} ({advice})", finding.message),
                None => finding.message.clone(),
            };
            out.leaf("svrl:text", &[], &text);
            out.end();
        }
        if let Some(why) = &verdict.unreadable {
            out.begin(
                "svrl:failed-assert",
                &[("test", why.code().word()), ("location", "/"), ("role", "fatal")],
            );
            out.leaf("svrl:text", &[], why.message());
            out.end();
        }
    }
    out.finish()
}
