//! The integration for PowerShell, which runs on no machine of ours: it is parsed by a grammar of the language, and
//! what it calls and keeps is compared with what it defines.

use std::collections::BTreeSet;
use std::path::Path;

use tree_sitter::{Node, Parser};
use vshelf_shell::Dialect;
use vshelf_shell::connection::{Places, render_integration};

/// The integration where all names have what breaks careless code.
fn integration() -> String {
    render_integration(
        Dialect::PowerShell,
        Places {
            data: Path::new("/it's $(touch pwned) \u{201c}here\u{201d}"),
            program: Path::new("/opt/`n $x/vshelf"),
            stamps: Path::new("/stamps; exit 1"),
        },
    )
}

/// Every node of the code, and what is wrong with it.
fn parsed(code: &str) -> Result<Vec<(String, String)>, String> {
    fn walk(node: Node<'_>, code: &str, found: &mut Vec<(String, String)>) -> Result<(), String> {
        let text = &code[node.byte_range()];
        if node.is_error() || node.is_missing() {
            let line = node.start_position().row + 1;
            return Err(format!("line {line}: {text:?}"));
        }
        found.push((node.kind().to_owned(), text.to_owned()));
        let mut cursor = node.walk();
        node.children(&mut cursor)
            .try_for_each(|child| walk(child, code, found))
    }
    let mut parser = Parser::new();
    parser
        .set_language(&tree_sitter_powershell::LANGUAGE.into())
        .expect("the grammar is of this parser's kind");
    let tree = parser.parse(code, None).expect("nothing stops it");
    let mut found = Vec::new();
    walk(tree.root_node(), code, &mut found).map(|()| found)
}

fn texts_of(nodes: &[(String, String)], kind: &str) -> BTreeSet<String> {
    let of_kind = nodes.iter().filter(|(found, _)| found == kind);
    of_kind.map(|(_, text)| text.clone()).collect()
}

#[test]
fn the_integration_is_code_of_the_language() {
    assert_eq!(parsed(&integration()).map(drop), Ok(()));
    let broken = integration().replace("return $words\n}", "return $words\n");
    assert!(parsed(&broken).is_err());
}

#[test]
fn what_is_called_is_defined_for_the_whole_shell() {
    let nodes = parsed(&integration()).unwrap();
    let defined = texts_of(&nodes, "function_name");
    let own: BTreeSet<String> = (texts_of(&nodes, "command_name").into_iter())
        .filter(|name| name.contains("vshelf"))
        .map(|name| format!("global:{name}"))
        .collect();
    assert!(own.len() > 5, "{own:?}");
    // The prompt that was there is kept under a name of its own.
    let kept = BTreeSet::from(["global:__vshelf_prompt".to_owned()]);
    let undefined: Vec<_> = own.difference(&defined).collect();
    assert_eq!(undefined, kept.iter().collect::<Vec<_>>());
    assert!(
        defined.iter().all(|name| name.starts_with("global:")),
        "{defined:?}"
    );
}
