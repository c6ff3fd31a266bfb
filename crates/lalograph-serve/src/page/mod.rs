//! The page: three files that are in the program.

use axum::http::header::{self, HeaderName};

type File = ([(HeaderName, &'static str); 1], &'static str);

fn file(kind: &'static str, text: &'static str) -> File {
    ([(header::CONTENT_TYPE, kind)], text)
}

/// `GET /`
pub(crate) async fn html() -> File {
    file("text/html; charset=utf-8", include_str!("page.html"))
}

/// `GET /page.css`
pub(crate) async fn css() -> File {
    file("text/css; charset=utf-8", include_str!("page.css"))
}

/// `GET /page.js`
pub(crate) async fn script() -> File {
    file("text/javascript; charset=utf-8", include_str!("page.js"))
}
