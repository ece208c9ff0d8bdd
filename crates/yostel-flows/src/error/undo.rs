//! Undoing what commands changed.

/// Why nothing is undone.
#[derive(Debug, thiserror::Error)]
pub enum UndoError {
    /// No command changed anything that is remembered; or nothing was undone that could be done again.
    #[error("there is nothing to {}", if *.again { "redo" } else { "undo" })]
    Nothing {
        /// Whether something was to be done again.
        again: bool,
    },
    /// Files were edited since the command wrote them.
    #[error("files were edited since `{command}`")]
    EditedSince {
        /// The command, as it was typed.
        command: String,
        /// Whether it was to be done again.
        again: bool,
        /// The files by their paths relative to the project's folder, each with what was edited, as a unified diff; none
        /// where it is not text.
        files: Vec<(String, Option<String>)>,
    },
    /// What is remembered cannot be used: it names a file that no command of ours writes.
    #[error("what is remembered of `{command}` names `{path}`, which no command writes")]
    Foreign {
        /// The command, as it was typed.
        command: String,
        /// The file.
        path: String,
    },
}
