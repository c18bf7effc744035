//! A document as one page for a browser: nothing is fetched, nothing runs.

use std::fmt::Write;

use keel_source::printable;
use quick_xml::escape::escape;

use super::{Document, Part, TEXTURES};
use crate::canvas::{Texture, Thumb};
use crate::svg::embedded;

/// How it looks, on a screen and in print; textures as in the drawings.
const STYLE: &str = include_str!("page.css");

/// The page of a document.
#[must_use]
pub fn html(document: &Document) -> String {
    let mut page = Page(String::new());
    let head = &document.head;
    page.put(&format!("<!DOCTYPE html>\n<html lang=\"{}\">\n<head>\n<meta charset=\"utf-8\">\n", text(&document.language)));
    // Even if something of a drive came through as an element, it could fetch and run nothing.
    page.put("<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; img-src data:; style-src 'unsafe-inline'\">\n");
    page.put(&format!(
        "<meta name=\"generator\" content=\"Yellow Keel\">\n<title>{}</title>\n<style>{STYLE}</style>\n",
        text(&head.title)
    ));
    page.put("</head>\n<body>\n<header>");
    page.element("h1", &head.title);
    page.element("p", &head.identity);
    page.element("p", &format!("{} · Yellow Keel", head.date));
    page.put("</header>\n");
    page.parts(&document.parts);
    page.put("</body>\n</html>\n");
    page.0
}

/// What a drive says, as text: no element of it, and no sign that steers.
fn text(said: &str) -> String {
    escape(printable(said).as_str()).into_owned()
}

struct Page(String);

impl Page {
    fn put(&mut self, html: &str) {
        self.0.push_str(html);
    }

    fn element(&mut self, name: &str, content: &str) {
        let _ = writeln!(self.0, "<{name}>{}</{name}>", text(content));
    }

    /// Parts in order, points that follow one another as one list.
    fn parts(&mut self, parts: &[Part]) {
        let mut is_list = false;
        for part in parts {
            let is_point = matches!(part, Part::Point(_));
            match (is_list, is_point) {
                (false, true) => self.put("<ul>\n"),
                (true, false) => self.put("</ul>\n"),
                _ => {}
            }
            is_list = is_point;
            self.part(part);
        }
        if is_list {
            self.put("</ul>\n");
        }
    }

    fn part(&mut self, part: &Part) {
        match part {
            Part::OnePage(parts) => self.parts(parts),
            Part::Sheet(what) => {
                let _ = writeln!(self.0, "<h2 class=\"sheet\">{}</h2>", text(what));
            }
            Part::Title(said) => {
                let _ = writeln!(self.0, "<p class=\"title\">{}</p>", text(said));
            }
            Part::Heading(said) => self.element("h3", said),
            Part::Text(said) => self.element("p", said),
            Part::Point(said) => self.element("li", said),
            Part::Fine(depth, said) => {
                let _ = writeln!(self.0, "<p class=\"fine\" style=\"margin-left:{depth}em\">{}</p>", text(said));
            }
            Part::Gap => {}
            Part::Table { heads, rows } => self.table(heads, rows),
            Part::Bars { legend, rows } => self.bars(legend, rows),
            Part::Tree(rows) => self.tree(rows),
            Part::Pictures(pictures) => self.pictures(pictures),
            Part::Drawing(drawing) => {
                let _ = writeln!(self.0, "<figure>{}</figure>", crate::svg(drawing));
            }
        }
    }

    fn table(&mut self, heads: &[String], rows: &[Vec<String>]) {
        self.put("<table>\n");
        for (name, row) in std::iter::once(("th", heads)).chain(rows.iter().map(|row| ("td", row.as_slice()))) {
            self.put("<tr>");
            row.iter().for_each(|cell| self.element(name, cell));
            self.put("</tr>\n");
        }
        self.put("</table>\n");
    }

    fn bars(&mut self, legend: &[(Texture, String)], rows: &[(String, [u64; 3])]) {
        let most = rows.iter().map(|(_, counts)| counts.iter().sum::<u64>()).max().unwrap_or(0).max(1);
        self.put("<table class=\"bars\">\n");
        for (name, counts) in rows {
            let _ = write!(self.0, "<tr><td>{}</td><td class=\"bar\">", text(name));
            for (texture, count) in TEXTURES.into_iter().zip(counts).filter(|(_, count)| **count > 0) {
                let wide = (*count as f64 * 100.0 / most as f64).max(0.6);
                let _ = write!(self.0, "<i class=\"{}\" style=\"width:{wide:.2}%\"></i>", class(texture));
            }
            let said: Vec<String> = counts.iter().map(u64::to_string).collect();
            let _ = writeln!(self.0, "</td><td>{}</td></tr>", said.join(" · "));
        }
        self.put("</table>\n<p class=\"fine\">");
        for (texture, meaning) in legend {
            let _ = write!(self.0, "<i class=\"{} key\"></i> {} ", class(*texture), text(meaning));
        }
        self.put("</p>\n");
    }

    fn tree(&mut self, rows: &[(usize, String, String)]) {
        self.put("<table class=\"tree\">\n");
        for (depth, name, holds) in rows {
            let _ = writeln!(self.0, "<tr><td style=\"padding-left:{depth}em\">{}</td><td>{}</td></tr>", text(name), text(holds));
        }
        self.put("</table>\n");
    }

    fn pictures(&mut self, pictures: &[(String, Thumb)]) {
        self.put("<div class=\"pictures\">\n");
        for (name, thumb) in pictures {
            let (name, (width, height)) = (text(name), thumb.pixels);
            let _ = writeln!(
                self.0,
                "<figure><img src=\"{}\" width=\"{width}\" height=\"{height}\" alt=\"{name}\"><figcaption>{name}</figcaption></figure>",
                embedded(thumb)
            );
        }
        self.put("</div>\n");
    }
}

fn class(texture: Texture) -> &'static str {
    match texture {
        Texture::Plain => "plain",
        Texture::Hatched => "hatched",
        Texture::Crossed => "crossed",
    }
}
