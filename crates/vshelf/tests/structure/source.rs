//! The files of a crate, and what they import of one another; code of tests left out.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

use proc_macro2::{TokenStream, TokenTree};
use syn::visit::{self, Visit};
use syn::{Attribute, ImplItem, Item, UseTree};

/// A crate of the workspace.
pub struct Crate {
    pub files: Vec<SourceFile>,
}

/// One file, which is one module.
pub struct SourceFile {
    pub path: PathBuf,
    /// The names of the modules that lead to it from the crate's root.
    module: Vec<String>,
    syntax: syn::File,
}

impl Crate {
    /// Reads the crate in this folder, from its root along its modules.
    pub fn read(folder: &Path) -> Crate {
        let roots = ["src/lib.rs", "src/main.rs"].map(|root| folder.join(root));
        let root = roots.iter().find(|root| root.exists()).unwrap();
        let mut files = Vec::new();
        read_module(root, Vec::new(), &mut files);
        Crate { files }
    }

    /// The other files of the crate that a file imports something of.
    pub fn imports_of(&self, file: &SourceFile) -> BTreeSet<PathBuf> {
        let mut paths = Paths {
            module: file.module.clone(),
            found: Vec::new(),
        };
        paths.visit_file(&file.syntax);
        let imported = paths.found.iter().filter_map(|path| self.file_of(path));
        let others = imported.filter(|other| other.path != file.path);
        others.map(|other| other.path.clone()).collect()
    }

    /// The file that a path from the crate's root is in: that of the longest part which is a module.
    fn file_of(&self, path: &[String]) -> Option<&SourceFile> {
        let leading = self
            .files
            .iter()
            .filter(|file| path.starts_with(&file.module));
        leading.max_by_key(|file| file.module.len())
    }
}

fn read_module(path: &Path, module: Vec<String>, files: &mut Vec<SourceFile>) {
    let text = fs::read_to_string(path).unwrap();
    let syntax = syn::parse_file(&text).unwrap();
    let stem = path.file_stem().unwrap();
    let folder = match ["lib", "main", "mod"].iter().any(|name| stem == *name) {
        true => path.parent().unwrap().to_owned(),
        false => path.with_extension(""),
    };
    for item in &syntax.items {
        if let Item::Mod(inner) = item
            && inner.content.is_none()
            && !is_of_tests(&inner.attrs)
        {
            let name = inner.ident.to_string();
            let files_of = [format!("{name}.rs"), format!("{name}/mod.rs")];
            let mut files_of = files_of.iter().map(|file| folder.join(file));
            let inner = files_of.find(|file| file.exists()).unwrap();
            read_module(&inner, [module.clone(), vec![name]].concat(), files);
        }
    }
    files.push(SourceFile {
        path: path.to_owned(),
        module,
        syntax,
    });
}

fn is_of_tests(attributes: &[Attribute]) -> bool {
    attributes.iter().any(|attribute| {
        let condition = attribute.path().is_ident("cfg").then_some(&attribute.meta);
        condition.is_some_and(|meta| {
            let list = meta.require_list().unwrap();
            list.tokens.to_string() == "test"
        })
    })
}

/// Collects paths into the crate, each from its root.
struct Paths {
    module: Vec<String>,
    found: Vec<Vec<String>>,
}

impl Paths {
    /// Adds a path where it begins with `crate`, `super` or `self`.
    fn add(&mut self, path: &[String]) {
        let mut whole = match path.first().map(String::as_str) {
            Some("crate") => Vec::new(),
            Some("super" | "self") => self.module.clone(),
            _ => return,
        };
        for part in path {
            match part.as_str() {
                "crate" | "self" => {}
                "super" => drop(whole.pop()),
                _ => whole.push(part.clone()),
            }
        }
        self.found.push(whole);
    }

    fn add_tree(&mut self, before: &[String], tree: &UseTree) {
        let with = |name: &syn::Ident| [before, &[name.to_string()]].concat();
        match tree {
            UseTree::Path(path) => self.add_tree(&with(&path.ident), &path.tree),
            UseTree::Name(name) => self.add(&with(&name.ident)),
            UseTree::Rename(name) => self.add(&with(&name.ident)),
            UseTree::Glob(_) => self.add(before),
            UseTree::Group(group) => group
                .items
                .iter()
                .for_each(|tree| self.add_tree(before, tree)),
        }
    }
}

impl<'a> Visit<'a> for Paths {
    fn visit_item(&mut self, item: &'a Item) {
        match item {
            // What a module makes known of its own children is no import.
            Item::Use(item) if matches!(item.vis, syn::Visibility::Inherited) => {
                self.add_tree(&[], &item.tree);
            }
            Item::Use(_) => {}
            Item::Mod(item) if is_of_tests(&item.attrs) => {}
            item => visit::visit_item(self, item),
        }
    }

    /// `pub(super)` imports nothing.
    fn visit_visibility(&mut self, _: &'a syn::Visibility) {}

    fn visit_path(&mut self, path: &'a syn::Path) {
        let parts: Vec<String> = (path.segments.iter())
            .map(|segment| segment.ident.to_string())
            .collect();
        self.add(&parts);
        visit::visit_path(self, path);
    }
}

impl SourceFile {
    /// How many functions each type has in the file's `impl` blocks that are of no trait.
    pub fn functions_of_types(&self) -> BTreeMap<String, usize> {
        let mut counts = BTreeMap::new();
        for item in &self.syntax.items {
            if let Item::Impl(block) = item
                && block.trait_.is_none()
                && let syn::Type::Path(of) = &*block.self_ty
            {
                let functions = block
                    .items
                    .iter()
                    .filter(|item| matches!(item, ImplItem::Fn(_)));
                let name = of.path.segments.last().unwrap().ident.to_string();
                *counts.entry(name).or_default() += functions.count();
            }
        }
        counts
    }

    /// Every text in the code, but for comments.
    pub fn texts(&self) -> Vec<String> {
        let mut texts = Texts::default();
        texts.visit_file(&self.syntax);
        texts.0
    }
}

#[derive(Default)]
struct Texts(Vec<String>);

impl Texts {
    fn add_tokens(&mut self, tokens: TokenStream) {
        for token in tokens {
            match token {
                TokenTree::Literal(literal) => self.0.push(literal.to_string()),
                TokenTree::Group(group) => self.add_tokens(group.stream()),
                TokenTree::Ident(_) | TokenTree::Punct(_) => {}
            }
        }
    }
}

impl<'a> Visit<'a> for Texts {
    fn visit_item_mod(&mut self, item: &'a syn::ItemMod) {
        if !is_of_tests(&item.attrs) {
            visit::visit_item_mod(self, item);
        }
    }

    fn visit_attribute(&mut self, attribute: &'a Attribute) {
        if let (false, Ok(list)) = (
            attribute.path().is_ident("doc"),
            attribute.meta.require_list(),
        ) {
            self.add_tokens(list.tokens.clone());
        }
    }

    fn visit_lit_str(&mut self, text: &'a syn::LitStr) {
        self.0.push(text.value());
    }

    fn visit_macro(&mut self, call: &'a syn::Macro) {
        self.add_tokens(call.tokens.clone());
    }
}
