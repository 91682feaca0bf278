//! Questions for editors that cannot prompt for text: a document to write the answer into. Each answer is used once.

use crate::host::TextMap;
use std::path::{Path, PathBuf};
use std::{fs, io};

const HEAD: &str = "# Write each value after its =, save, and send again. The values are used once.\n";

/// The document, in the folder for what is not of a workspace's files.
const FILE: &str = "questions.txt";

/// Adds a question to the document in `folder`, which is made if it is not there.
pub(crate) fn write(folder: &Path, name: &str, question: &str) -> io::Result<PathBuf> {
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

/// Takes the written answers: from the editor if the document is open, else from the disk. The document is then
/// deleted.
pub(crate) fn read(folder: &Path, unsaved: &TextMap) -> Vec<(String, String)> {
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

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;

    fn answer(name: &str, answer: &str) -> (String, String) {
        (name.to_owned(), answer.to_owned())
    }

    #[test]
    fn what_is_asked_is_written_down_once_and_its_answer_is_taken_once() {
        let folder = tempfile::tempdir().expect("a folder");
        assert_eq!(read(folder.path(), &TextMap::new()), []);
        let file = write(folder.path(), "truck", "Which truck?\nAt the gate").expect("it is laid");
        write(folder.path(), "lane", "Which lane?").expect("it is laid");
        write(folder.path(), "truck", "Asked again").expect("it is laid");
        let text = fs::read_to_string(&file).expect("a file");
        assert_eq!(text, format!("{HEAD}\n# Which truck? At the gate\ntruck = \n\n# Which lane?\nlane = \n"));
        assert_eq!(read(folder.path(), &TextMap::new()), [], "nothing was answered");
        assert!(file.exists(), "so it stays");

        fs::write(&file, text.replace("truck = ", "truck =  PH north = 12 ")).expect("a file");
        assert_eq!(read(folder.path(), &TextMap::new()), [answer("truck", "PH north = 12")]);
        assert_eq!(read(folder.path(), &TextMap::new()), []);
    }

    #[test]
    fn what_stands_in_the_editor_is_the_answer() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = write(folder.path(), "truck", "Which truck?").expect("it is laid");
        let unsaved = TextMap::from([(file.clone(), Arc::from("# truck = no\ntruck = 7\nlane =\n"))]);
        assert_eq!(read(folder.path(), &unsaved), [answer("truck", "7")]);
        assert!(!file.exists());
    }
}
