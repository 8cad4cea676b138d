//! Which parts are in this build.

/// Version, then a line a part.
pub fn long() -> &'static str {
    static TEXT: std::sync::LazyLock<String> = std::sync::LazyLock::new(|| {
        let mut text = format!("{}\n", env!("CARGO_PKG_VERSION"));
        for part in media::parts::all() {
            text.push_str(&format!("\n{}: {}", part.name, part.state()));
        }
        text
    });
    &TEXT
}
