//! A form with files as the body of a request (RFC 7578).

use xxhash_rust::xxh3::xxh3_128;

pub struct Form {
    body: Vec<u8>,
    boundary: String,
}

/// Names stand in quotes; what would end them is encoded (RFC 7578, section 4.2).
fn name(text: &str) -> String {
    text.replace('"', "%22").replace('\r', "%0D").replace('\n', "%0A")
}

impl Form {
    /// A form around a file. Its boundary comes from the file's content, which therefore cannot hold it.
    pub fn new(content: &[u8]) -> Form {
        Form {
            body: Vec::with_capacity(content.len() + 1024),
            boundary: format!("part-{:032x}", xxh3_128(content)),
        }
    }

    fn begin(&mut self, field: &str, more: &str) {
        let head = format!(
            "--{}\r\nContent-Disposition: form-data; name=\"{}\"{more}\r\n\r\n",
            self.boundary,
            name(field)
        );
        self.body.extend(head.bytes());
    }

    pub fn text(&mut self, field: &str, value: &str) {
        self.begin(field, "");
        self.body.extend(value.bytes());
        self.body.extend(b"\r\n");
    }

    pub fn file(&mut self, field: &str, filename: &str, kind: &str, content: &[u8]) {
        self.begin(field, &format!("; filename=\"{}\"\r\nContent-Type: {kind}", name(filename)));
        self.body.extend(content);
        self.body.extend(b"\r\n");
    }

    /// Its media type, and the body.
    pub fn finish(mut self) -> (String, Vec<u8>) {
        self.body.extend(format!("--{}--\r\n", self.boundary).bytes());
        (format!("multipart/form-data; boundary={}", self.boundary), self.body)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_form_as_the_standard_shows_it() {
        let mut form = Form::new(b"RIFF");
        form.text("language", "en");
        form.file("sound", "a \"b\".wav", "audio/wav", b"RIFF");
        let boundary = form.boundary.clone();
        let (kind, body) = form.finish();
        assert_eq!(kind, format!("multipart/form-data; boundary={boundary}"));
        let want = format!(
            "--{boundary}\r\nContent-Disposition: form-data; name=\"language\"\r\n\r\nen\r\n\
             --{boundary}\r\nContent-Disposition: form-data; name=\"sound\"; filename=\"a %22b%22.wav\"\r\n\
             Content-Type: audio/wav\r\n\r\nRIFF\r\n--{boundary}--\r\n"
        );
        assert_eq!(String::from_utf8(body).unwrap(), want);
    }
}
