//! Questions for editors that cannot ask for text: a document in which the answer is written down. What stands
//! there is used once.

use crate::desk::Unsaved;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

const HEAD: &str = "# Write each answer behind its =, save, and send again. The answers are used once.\n";

/// The document, in the folder for what is not of a workspace's files.
const FILE: &str = "questions.txt";

/// Adds a question to the document in `folder`, which is made if it is not there.
pub(crate) fn lay(folder: &Path, name: &str, question: &str) -> io::Result<PathBuf> {
    let file = folder.join(FILE);
    let mut text = fs::read_to_string(&file).unwrap_or_else(|_| HEAD.to_owned());
    let known = text.lines().any(|line| line.split_once('=').is_some_and(|(own, _)| own.trim() == name));
    if !known {
        let line: String = question.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
        text.push_str(&format!("\n# {line}\n{name} = \n"));
        fs::write(&file, text)?;
    }
    Ok(file)
}

/// Takes the answers that were written down: what is in the editor, else what is on disk. The document is gone then.
pub(crate) fn take(folder: &Path, unsaved: &Unsaved) -> Vec<(String, String)> {
    let file = folder.join(FILE);
    let text = match unsaved.get(&file) {
        Some(text) => Some(text.to_string()),
        None => fs::read_to_string(&file).ok(),
    };
    let Some(text) = text else { return Vec::new() };
    let answers: Vec<(String, String)> = text
        .lines()
        .filter(|line| !line.starts_with('#'))
        .filter_map(|line| line.split_once('='))
        .map(|(name, answer)| (name.trim().to_owned(), answer.trim().to_owned()))
        .filter(|(_, answer)| !answer.is_empty())
        .collect();
    if !answers.is_empty() {
        let _ = fs::remove_file(&file);
    }
    answers
}
