//! Source maps that the project file names, made ready for the host.

use std::fs;
use std::path::Path;

use adzeman_dap::MAX_BODY_BYTES;
use serde_json::Value as Json;

/// Fits into a message, with its quotes escaped.
const MOST_BYTES: usize = MAX_BODY_BYTES / 2;

/// Reads a source map (ECMA-426), and puts the texts into it that it leaves out: the host may not have the files. What is not
/// read here stays out; the host then shows the lines without their text.
///
/// # Errors
/// When the file cannot be read, or is no JSON.
pub(crate) fn read(file: &Path) -> Result<String, String> {
    let text = fs::read_to_string(file).map_err(|why| why.to_string())?;
    let mut map: Json = serde_json::from_str(&text).map_err(|why| format!("it is no source map: {why}"))?;
    let folder = file.parent().unwrap_or(Path::new("."));
    if let Some(sections) = map["sections"].as_array_mut() {
        sections.iter_mut().for_each(|section| add_texts(&mut section["map"], folder));
    } else {
        add_texts(&mut map, folder);
    }
    let map = map.to_string();
    if map.len() > MOST_BYTES {
        return Err(format!(
            "it has {} bytes with its texts, {MOST_BYTES} can be sent; put it beside the script where the host runs",
            map.len()
        ));
    }
    Ok(map)
}

fn add_texts(map: &mut Json, folder: &Path) {
    let folder = folder.join(map["sourceRoot"].as_str().unwrap_or_default());
    let Some(sources) = map["sources"].as_array() else { return };
    let text = |(number, source): (usize, &Json)| match &map["sourcesContent"][number] {
        Json::Null => source.as_str().and_then(|path| fs::read_to_string(folder.join(path)).ok()).into(),
        held => held.clone(),
    };
    let texts = sources.iter().enumerate().map(text).collect();
    map["sourcesContent"] = Json::Array(texts);
}
