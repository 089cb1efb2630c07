//! The report for terminals.

use crate::messages::Messages;

use super::Report;

pub(super) fn render(report: &Report, shown: &Messages) -> String {
    let mut text = format!("{}\n", shown.strong(&report.summary()));
    for verdict in &report.verdicts {
        for finding in &verdict.findings {
            text.push('\n');
            text.push_str(&shown.rendered(&finding.diagnostic()));
        }
    }
    text
}
