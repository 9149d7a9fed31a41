//! Messages with something attached.

use data_encoding::BASE64;

/// Bytes as a part of a message, under a name.
pub fn part(name: &str, encoding: &str, bytes: &[u8]) -> Vec<u8> {
    let header = format!(
        "Content-Type: application/octet-stream; name=\"{name}\"\r\nContent-Transfer-Encoding: {encoding}\r\n\
         Content-Disposition: attachment; filename=\"{name}\"\r\n\r\n"
    );
    let body = match encoding {
        "base64" => in_lines(BASE64.encode(bytes).as_bytes(), 76),
        "quoted-printable" => {
            let escaped: Vec<String> = bytes.iter().map(|byte| format!("={byte:02X}")).collect();
            escaped.chunks(25).map(|line| format!("{}=\r\n", line.concat())).collect::<String>().into_bytes()
        }
        _ => bytes.to_vec(),
    };
    [header.into_bytes(), body].concat()
}

pub fn in_lines(text: &[u8], width: usize) -> Vec<u8> {
    text.chunks(width).collect::<Vec<_>>().join(&b"\r\n"[..])
}

/// A message with these parts behind a text.
pub fn message(boundary: &str, parts: &[Vec<u8>]) -> Vec<u8> {
    let begin = format!(
        "Received: from here\r\n\tby there\r\nFrom: keeper@example.invalid\r\nSubject: board\r\nMIME-Version: 1.0\r\n\
         Content-Type: multipart/mixed;\r\n boundary=\"{boundary}\"\r\n\r\nA preamble.\r\n"
    );
    let text = b"Content-Type: text/plain\r\n\r\nThe lamp is lit.\r\n--another\r\n".to_vec();
    let mut bytes = begin.into_bytes();
    for part in [&[text], parts].concat() {
        bytes.extend(format!("\r\n--{boundary}\r\n").bytes());
        bytes.extend(part);
    }
    bytes.extend(format!("\r\n--{boundary}--\r\nAn epilogue.\r\n").bytes());
    bytes
}
