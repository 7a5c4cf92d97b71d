//! What drawings and pages share: text in markup, and lives in words.

use vshelf_core::timeline::Span;

/// Text inside an element, or inside a value in quotation marks (W3C XML 1.0, section 2.4; WHATWG HTML, "Escaping a
/// string").
pub(crate) fn escaped(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('>', "&gt;")
        .replace('"', "&quot;")
}

/// A phase with its days: `lts from 2026-01-01 to 2027-12-31`.
pub(crate) fn span_in_words(span: &Span) -> String {
    match span.until.and_then(|until| until.yesterday().ok()) {
        Some(last) => format!("{} from {} to {last}", span.phase, span.from),
        None => format!("{} from {}", span.phase, span.from),
    }
}
