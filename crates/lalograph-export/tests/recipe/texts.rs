//! Texts: the lines of this project's documents, random characters of many kinds, and random HTML.

use std::path::Path;

use rand::RngExt;

const RANDOM: usize = 9000;

pub(crate) fn all() -> Vec<String> {
    let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
    let mut texts = Vec::new();
    for folder in [docs.clone(), docs.join("guide"), docs.join("formats")] {
        let mut files: Vec<_> =
            std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().path()).collect();
        files.sort();
        for file in files.iter().filter(|file| file.extension().is_some_and(|own| own == "md")) {
            let text = std::fs::read_to_string(file).unwrap();
            texts.extend(text.lines().filter(|line| !line.is_empty()).map(str::to_owned));
        }
    }
    let mut random = lalograph_net::numbers::chance::stream(1, "texts", &[]);
    for number in 0..RANDOM {
        let parts = random.random_range(0..30);
        texts.push((0..parts).map(|_| part(&mut random, number % 3 == 0)).collect());
    }
    // From all kinds to every place, so that a vocabulary is made of all kinds.
    let count = texts.len();
    (0..count).map(|at| texts[at * 7919 % count].clone()).collect()
}

/// A character, or a few that belong together.
fn part(random: &mut lalograph_net::numbers::chance::Stream, html: bool) -> String {
    const HTML: [&str; 34] = [
        "<p>",
        "</p>",
        "<b>",
        "</b >",
        "<br/>",
        "<td>",
        "</td>",
        "<script>",
        "</script>",
        "<!--",
        "-->",
        "<a href=\"x>y\">",
        "<a b>",
        "<input checked>",
        "<h1 class=k>",
        "<my-tag>",
        "<x@y.z>",
        "<",
        ">",
        "&",
        ";",
        "&amp;",
        "&nbsp;",
        "&#65;",
        "&eacute;",
        "&x;",
        "/",
        "=",
        "\"",
        "<svg/>",
        "<?xml?>",
        "<!doctype html>",
        "<style a='>'>",
        "</style",
    ];
    const UNUSUAL: [&str; 34] = [
        " ",
        " ",
        "  ",
        "\t",
        "\n",
        "\r\n",
        "\r",
        "\u{a0}",
        "\u{2003}",
        "'",
        "\u{2019}",
        "-",
        "\u{2011}",
        ".",
        ",",
        "_",
        ":",
        "e\u{301}",
        "\u{300}",
        "\u{1f41d}\u{200d}\u{2642}\u{fe0f}",
        "\u{1f1e9}\u{1f1ea}",
        "\u{130}",
        "\u{1c5}",
        "\u{3a3}",
        "\u{fb01}",
        "\u{b2}",
        "\u{663}",
        "\u{2167}",
        "\u{1f130}",
        "\u{ad}",
        "\u{200d}",
        "\u{65e5}\u{672c}",
        "\u{ac01}",
        "\u{20ac}",
    ];
    match random.random_range(0..12) {
        0..=4 => char::from(random.random_range(b'a'..=b'z')).to_string(),
        5 => char::from(random.random_range(b'A'..=b'Z')).to_string(),
        6 => char::from(random.random_range(b'0'..=b'9')).to_string(),
        7 => char::from(random.random_range(b' '..=b'~')).to_string(),
        8 if html => HTML[random.random_range(0..HTML.len())].to_owned(),
        9 if html => HTML[random.random_range(0..HTML.len())].to_owned(),
        8 => "ab".repeat(random.random_range(1..40)),
        9 => char::from_u32(random.random_range(0x80..0x3000)).map(String::from).unwrap_or_default(),
        10 => char::from_u32(random.random_range(0x80..0x1ffff)).map(String::from).unwrap_or_default(),
        _ => UNUSUAL[random.random_range(0..UNUSUAL.len())].to_owned(),
    }
}
