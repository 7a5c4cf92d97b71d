//! Turns the definitions that come with the program into JSON, which is read in a fraction of the time.

use std::fs;
use std::path::Path;
use std::{env, error::Error};

use serde_json::Value;

fn main() -> Result<(), Box<dyn Error>> {
    println!("cargo::rerun-if-changed=definitions");
    let mut files: Vec<_> = fs::read_dir("definitions")?.collect::<Result<_, _>>()?;
    files.sort_by_key(fs::DirEntry::path);
    let mut source = String::from("&[\n");
    for file in files {
        let path = file.path().canonicalize()?;
        let name = path
            .file_stem()
            .unwrap_or_default()
            .to_string_lossy()
            .into_owned();
        let table: toml::Table = fs::read_to_string(&path)?.parse()?;
        let files = requirement_files(&table);
        let json = as_json(&toml::Value::Table(table)).to_string();
        let text = path.display().to_string();
        source += &format!(
            "BuiltIn {{ name: {name:?}, text: include_str!({text:?}), json: {json:?}, requirement_files: &{files:?} }},\n"
        );
    }
    source.push(']');
    let out = env::var("OUT_DIR")?;
    fs::write(Path::new(&out).join("built_in.rs"), source)?;
    Ok(())
}

/// The names of the requirement files of a definition, each once.
fn requirement_files(definition: &toml::Table) -> Vec<String> {
    let files = definition.get("requirement-files");
    let files = files.and_then(toml::Value::as_array).into_iter().flatten();
    let names = files.filter_map(|file| file.get("file")?.as_str());
    let mut names: Vec<String> = names.map(str::to_owned).collect();
    names.dedup();
    names
}

/// A value of TOML as one of JSON, with days as texts.
fn as_json(value: &toml::Value) -> Value {
    match value {
        toml::Value::String(text) => Value::from(text.as_str()),
        toml::Value::Integer(number) => Value::from(*number),
        toml::Value::Float(number) => Value::from(*number),
        toml::Value::Boolean(truth) => Value::from(*truth),
        toml::Value::Datetime(day) => Value::from(day.to_string()),
        toml::Value::Array(values) => values.iter().map(as_json).collect(),
        toml::Value::Table(table) => {
            let entries = table
                .iter()
                .map(|(key, value)| (key.clone(), as_json(value)));
            Value::Object(entries.collect())
        }
    }
}
