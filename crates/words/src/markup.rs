//! Text in HTML, XML and WebVTT.

/// Signs that would mean something stay signs.
pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// The same between quotes.
pub fn quoted(text: &str) -> String {
    escaped(text).replace('"', "&quot;")
}
