//! A mirror as a page for people: one file without scripts, on a light or dark ground, as wide as what shows it.

use std::fmt::Write as _;

use jiff::civil::Date;
use vshelf_core::Phase;
use vshelf_core::timeline::Span;

use crate::markup::{escaped, span_in_words};
use crate::words::{Count, megabytes};

/// What a mirror has of one runtime.
#[derive(Clone, Debug)]
pub struct Page {
    /// The runtime's title.
    pub title: String,
    /// The runtime's name in commands.
    pub name: String,
    /// The day that phases are computed for, and that the page was written.
    pub today: Date,
    /// The file of the definition beside the page.
    pub definition: String,
    /// The key that the catalog is signed with.
    pub key: Option<String>,
    /// Its lines, newest first.
    pub lines: Vec<PageLine>,
}

/// A line and its releases.
#[derive(Clone, Debug)]
pub struct PageLine {
    /// Its name, with its code name.
    pub name: String,
    /// Its phase on that day.
    pub phase: Phase,
    /// Its life.
    pub spans: Vec<Span>,
    /// Its releases, newest first.
    pub releases: Vec<PageRelease>,
}

/// A release.
#[derive(Clone, Debug)]
pub struct PageRelease {
    /// What names it in commands, without the runtime.
    pub selector: String,
    /// Its publisher.
    pub publisher: String,
    /// When it came out.
    pub date: Option<Date>,
    /// Whether it fixes a security problem.
    pub security: bool,
    /// Why its publisher took it back; empty where it does not say so.
    pub withdrawn: Option<String>,
    /// Its builds.
    pub builds: Vec<PageBuild>,
}

/// A build.
#[derive(Clone, Debug)]
pub struct PageBuild {
    /// What it runs on.
    pub platform: String,
    /// Its archive, by its path from the page.
    pub file: String,
    /// The bytes of that.
    pub size: Option<u64>,
    /// The digest of that.
    pub digest: String,
}

impl Page {
    /// The page as HTML (WHATWG HTML, "The HTML syntax").
    pub fn render(&self) -> String {
        let mut html = String::from(HEAD);
        let title = escaped(&self.title);
        write_to(
            &mut html,
            format_args!(
                "<title>{title}: a mirror</title>\n{STYLE}</head>\n<body>\n<h1>{title}</h1>\n"
            ),
        );
        let releases: Vec<&PageRelease> =
            self.lines.iter().flat_map(|line| &line.releases).collect();
        let builds = || releases.iter().flat_map(|release| &release.builds);
        let bytes = builds().filter_map(|build| build.size).sum();
        write_to(
            &mut html,
            format_args!(
                "<p>{} in {}, {}. Written on {}.</p>\n",
                Count(releases.len(), "release"),
                Count(builds().count(), "archive"),
                megabytes(bytes),
                self.today
            ),
        );
        self.render_use(&mut html);
        let window = self.window();
        html.push_str("<h2>Lines</h2>\n");
        for line in &self.lines {
            line.render(&mut html, self, window);
        }
        html.push_str("</body>\n</html>\n");
        html
    }

    fn render_use(&self, html: &mut String) {
        let (name, definition) = (escaped(&self.name), escaped(&self.definition));
        write_to(
            html,
            format_args!(
                "<h2>Use it</h2>\n<p>Give the address of <a href=\"{}\">{definition}</a> to <code>vshelf runtimes --add</code>, once. Then:</p>\n",
                reference(&self.definition)
            ),
        );
        let newest = self.lines.iter().find(|line| line.phase != Phase::Preview);
        let newest = newest
            .or(self.lines.first())
            .and_then(|line| line.releases.first());
        let selector = newest.map_or("stable", |release| &release.selector);
        write_to(
            html,
            format_args!(
                "<pre>vshelf catalog {name}\nvshelf install {name}@{}</pre>\n",
                escaped(selector)
            ),
        );
        if let Some(key) = &self.key {
            write_to(
                html,
                format_args!(
                    "<p>The catalog is signed with <code>{}</code>; the definition says so, and vshelf checks it.</p>\n",
                    escaped(key)
                ),
            );
        }
    }

    /// The first day of the lives that are drawn, and the first day after them.
    fn window(&self) -> (Date, Date) {
        let spans = || self.lines.iter().flat_map(|line| &line.spans);
        let from = spans().map(|span| span.from).chain([self.today]).min();
        let until = spans()
            .filter_map(|span| span.until)
            .chain([self.today])
            .max();
        (from.unwrap_or(self.today), until.unwrap_or(self.today))
    }
}

impl PageLine {
    fn render(&self, html: &mut String, page: &Page, window: (Date, Date)) {
        let (name, phase) = (escaped(&self.name), self.phase);
        let open = match phase {
            Phase::Ended => "",
            _ => " open",
        };
        write_to(
            html,
            format_args!(
                "<details class=\"line {phase}\"{open}>\n<summary><b>{name}</b> <span class=\"phase\">{phase}</span> <span class=\"end\">{}</span></summary>\n",
                self.end_in_words(page.today)
            ),
        );
        self.render_life(html, page.today, window);
        for release in &self.releases {
            release.render(html, page);
        }
        html.push_str("</details>\n");
    }

    fn end_in_words(&self, today: Date) -> String {
        let last = self.spans.last().and_then(|span| span.until);
        match last.and_then(|until| until.yesterday().ok()) {
            Some(end) if end < today => format!("support ended on {end}"),
            Some(end) => format!("support ends on {end}"),
            None => "no end announced".to_owned(),
        }
    }

    /// Its phases as a bar over time, which says the same in words.
    fn render_life(&self, html: &mut String, today: Date, (from, until): (Date, Date)) {
        let days = |from: Date, to: Date| f64::from((to - from).get_days());
        let place =
            |day: Date| (days(from, day) / days(from, until).max(1.0)).clamp(0.0, 1.0) * 100.0;
        if self.spans.is_empty() {
            return;
        }
        html.push_str("<div class=\"life\" aria-hidden=\"true\">");
        for span in &self.spans {
            let (left, right) = (place(span.from), span.until.map_or(100.0, place));
            write_to(
                html,
                format_args!(
                    "<i class=\"{}\" style=\"left:{left:.1}%;width:{:.1}%\"></i>",
                    span.phase,
                    right - left
                ),
            );
        }
        write_to(
            html,
            format_args!(
                "<i class=\"today\" style=\"left:{:.1}%\"></i></div>\n",
                place(today)
            ),
        );
        let phase = |span| format!("<span>{}</span>", span_in_words(span));
        let phases: Vec<String> = self.spans.iter().map(phase).collect();
        write_to(
            html,
            format_args!("<p class=\"quiet\">{}</p>\n", phases.join("; ")),
        );
    }
}

impl PageRelease {
    fn render(&self, html: &mut String, page: &Page) {
        let (selector, publisher) = (escaped(&self.selector), escaped(&self.publisher));
        write_to(
            html,
            format_args!("<section>\n<h3>{selector}</h3>\n<p>by {publisher}"),
        );
        if let Some(date) = self.date {
            write_to(html, format_args!(", {date}"));
        }
        if self.security {
            html.push_str(" <b class=\"mark\">security release</b>");
        }
        match self.withdrawn.as_deref() {
            Some("") => html.push_str(" <b class=\"mark\">withdrawn</b>"),
            Some(why) => write_to(
                html,
                format_args!(" <b class=\"mark\">withdrawn: {}</b>", escaped(why)),
            ),
            None => {}
        }
        write_to(
            html,
            format_args!(
                "</p>\n<pre>vshelf install {}@{selector}</pre>\n<ul>\n",
                escaped(&page.name)
            ),
        );
        for build in &self.builds {
            let size = build.size.map(|size| format!(", {}", megabytes(size)));
            write_to(
                html,
                format_args!(
                    "<li><a href=\"{}\">{}</a>{}<br><code>{}</code></li>\n",
                    reference(&build.file),
                    escaped(&build.platform),
                    size.unwrap_or_default(),
                    escaped(&build.digest)
                ),
            );
        }
        html.push_str("</ul>\n</section>\n");
    }
}

fn write_to(html: &mut String, text: std::fmt::Arguments<'_>) {
    html.write_fmt(text).expect("a text takes all");
}

/// A path below the page, or a whole address, as the value of a link: what would end a path, or the value, is
/// percent-encoded (RFC 3986, section 3.3).
fn reference(path: &str) -> String {
    let mut text = String::with_capacity(path.len());
    for c in path.chars() {
        match c {
            ' ' | '"' | '<' | '>' | '?' | '#' | '&' | '\'' => {
                write_to(&mut text, format_args!("%{:02X}", u32::from(c)));
            }
            c => text.push(c),
        }
    }
    text
}

const HEAD: &str = "<!DOCTYPE html>
<html lang=\"en\">
<head>
<meta charset=\"utf-8\">
<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">
<meta name=\"color-scheme\" content=\"light dark\">
<meta name=\"generator\" content=\"vshelf mirror\">
";

/// The colours of the phases are those of the timeline on both grounds.
const STYLE: &str = "<style>
:root { --ground: #ffffff; --text: #1b2128; --quiet: #5c6670; --rule: #d9dee3; --code: #f3f5f7; --mark: #a33a00;
  --preview: #a855c8; --current: #0b76e0; --lts: #00916f; --maintenance: #bd6f00; --ended: #7d868f; --unknown: #5f5f87; }
@media (prefers-color-scheme: dark) {
:root { --ground: #11151a; --text: #d7dce2; --quiet: #98a2ad; --rule: #2b323a; --code: #1b2128; --mark: #ff9d5c;
  --preview: #c58be0; --current: #4da3ff; --lts: #19b58f; --maintenance: #e0952b; --ended: #8b949e; --unknown: #8a8ab5; }
}
body { background: var(--ground); color: var(--text); font: 16px/1.5 system-ui, sans-serif; max-width: 46rem;
  margin: 0 auto; padding: 1rem; }
h1 { margin: .5rem 0 0; } h2 { margin: 1.5rem 0 .5rem; font-size: 1.1rem; } h3 { margin: .75rem 0 0; font-size: 1rem; }
p { margin: .25rem 0; } a { color: inherit; } .quiet, .end { color: var(--quiet); font-size: .875rem; }
.quiet span, .end { display: inline-block; }
pre, code { font: .875rem/1.5 ui-monospace, monospace; overflow-wrap: anywhere; white-space: pre-wrap; }
pre { background: var(--code); border-radius: 4px; margin: .5rem 0; padding: .5rem .75rem; }
ul { margin: .25rem 0; padding-left: 1.25rem; } li code { color: var(--quiet); }
.line { border-left: 5px solid var(--phase); margin: .75rem 0; padding-left: .75rem; }
summary { cursor: pointer; } .phase { color: var(--phase); font-weight: 600; } .mark { color: var(--mark); }
section { border-top: 1px solid var(--rule); margin-top: .5rem; }
.life { background: var(--code); border-radius: 2px; height: 12px; margin: .5rem 0; overflow: hidden; position: relative; }
.life i { background: var(--phase); height: 12px; position: absolute; }
.life .today { background: var(--text); width: 2px; }
.preview { --phase: var(--preview); } .current { --phase: var(--current); } .lts { --phase: var(--lts); }
.maintenance { --phase: var(--maintenance); } .ended { --phase: var(--ended); } .unknown { --phase: var(--unknown); }
</style>
";

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::civil::date;

    fn page() -> Page {
        let release = PageRelease {
            selector: "8.3.1".to_owned(),
            publisher: "saltmarsh".to_owned(),
            date: Some(date(2026, 11, 16)),
            security: true,
            withdrawn: None,
            builds: vec![PageBuild {
                platform: "linux-x64-gnu".to_owned(),
                file: "files/saltmarsh/a b.tgz".to_owned(),
                size: Some(200_000),
                digest: "sha256:00".to_owned(),
            }],
        };
        let life = |phase, from, until| Span { phase, from, until };
        Page {
            title: "Marram & <sons>".to_owned(),
            name: "marram".to_owned(),
            today: date(2026, 11, 23),
            definition: "marram.toml".to_owned(),
            key: None,
            lines: vec![
                PageLine {
                    name: "8 Eelgrass".to_owned(),
                    phase: Phase::Lts,
                    spans: vec![life(
                        Phase::Lts,
                        date(2025, 11, 23),
                        Some(date(2027, 11, 23)),
                    )],
                    releases: vec![release.clone()],
                },
                PageLine {
                    name: "3".to_owned(),
                    phase: Phase::Ended,
                    spans: Vec::new(),
                    releases: vec![PageRelease {
                        withdrawn: Some("it loses \"readings\"".to_owned()),
                        ..release
                    }],
                },
            ],
        }
    }

    #[test]
    fn what_a_mirror_has_is_told_with_the_commands_that_use_it() {
        let html = page().render();
        for text in [
            "<h1>Marram &amp; &lt;sons&gt;</h1>",
            "2 releases in 2 archives, 0.4 MB. Written on 2026-11-23.",
            "<a href=\"marram.toml\">marram.toml</a>",
            "vshelf install marram@8.3.1</pre>",
            "<summary><b>8 Eelgrass</b> <span class=\"phase\">lts</span> <span class=\"end\">support ends on 2027-11-22</span>",
            "<i class=\"today\" style=\"left:50.0%\">",
            "by saltmarsh, 2026-11-16 <b class=\"mark\">security release</b>",
            "withdrawn: it loses &quot;readings&quot;",
            "<a href=\"files/saltmarsh/a%20b.tgz\">linux-x64-gnu</a>, 0.2 MB<br><code>sha256:00</code>",
        ] {
            assert!(html.contains(text), "{text}\n{html}");
        }
        assert_eq!(
            html.matches("<details").count(),
            html.matches("</details>").count()
        );
        assert!(
            !html.contains("<script") && !html.contains("http"),
            "{html}"
        );
    }

    #[test]
    fn lines_without_support_are_folded() {
        let html = page().render();
        assert!(html.contains("<details class=\"line lts\" open>"), "{html}");
        assert!(html.contains("<details class=\"line ended\">"), "{html}");
    }
}
