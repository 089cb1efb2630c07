//! The codes of diagnostics: one table that the core, the messages as JSON and the documentation read.

use std::fmt;

macro_rules! codes {
    ($($variant:ident $word:literal $summary:literal)*) => {
        /// What sort of thing a diagnostic is about. The words of codes are stable: programs may compare them.
        #[derive(Clone, Copy, PartialEq, Eq, Debug, Hash)]
        #[non_exhaustive]
        pub enum Code {
            $(#[doc = $summary] $variant,)*
        }

        impl Code {
            /// All codes, in the order of the documentation.
            pub const ALL: &'static [Self] = &[$(Self::$variant,)*];

            /// The code as programs see it: `rule-name`.
            #[must_use]
            pub fn word(self) -> &'static str {
                match self { $(Self::$variant => $word,)* }
            }

            /// One sentence about it.
            #[must_use]
            pub fn summary(self) -> &'static str {
                match self { $(Self::$variant => $summary,)* }
            }
        }
    };
}

codes! {
    CommandLine "command-line" "The command line is wrong: an option, a param, a source or an input that does not fit."
    RuleFile "rule-file" "A rule file, a library or a case of a rule cannot be read."
    RuleSyntax "rule-syntax" "The text of a rule does not follow the grammar of the language."
    RuleName "rule-name" "A name in a rule is bound twice, or nothing is bound to it."
    RuleCall "rule-call" "A call does not fit the function: there is none of that name, or the arguments are others."
    RuleType "rule-type" "An operator or a clause is given a value of a type that it does not take."
    RuleSchema "rule-schema" "A rule asks for what the schema of its input does not have, or makes what that of its result has no place for."
    RuleShape "rule-shape" "One value stands where many are meant, or many where one is, or a path where a condition is."
    RuleHeader "rule-header" "An item of a rule's header contradicts another, or cannot be."
    RuleUnused "rule-unused" "Something that a rule declares is never used."
    RuleSuspect "rule-suspect" "A rule may mean something else than it says."
    PathEmpty "path-empty" "A path, or a filter in it, selected nothing in the whole input."
    PathList "path-list" "A step by name met lists, and names step into maps."
    WhereEmpty "where-empty" "A `where` held for no tuple."
    NameAbsent "name-absent" "A member that an option or a function names was in no map that it was looked for in."
    ValueMissing "value-missing" "A value is not there, or null, where one is needed."
    ValueKind "value-kind" "A value is of a kind that the operation does not take."
    ValueLimit "value-limit" "A number or another value is larger than what is computed with."
    ValueOrder "value-order" "Values that are to be ordered have no common order."
    ValueSeveral "value-several" "Several elements or documents are there, and one is meant."
    CallFailed "call-failed" "A function cannot do with its arguments what it is asked for."
    RaisedError "raised-error" "The rule itself ended the run: error(), needed()."
    RaisedNote "raised-note" "The rule itself has something to say: note()."
    Recovered "recovered" "Failures that recover() stood in for."
    InputMissing "input-missing" "An input is not there."
    InputUnreadable "input-unreadable" "An input cannot be opened or read to its end."
    InputFetch "input-fetch" "A server did not give what a URL names."
    InputFormat "input-format" "The format of an input is not known, or not what its name says."
    InputRead "input-read" "How an input is read."
    InputEmpty "input-empty" "An input holds nothing."
    Encoding "encoding" "Bytes that are no text in the encoding of the input."
    Syntax "syntax" "A text is not well-formed in its format."
    Limit "limit" "A document is deeper, larger or expands to more than is allowed."
    MemberTwice "member-twice" "A map holds a member twice, or a table a column."
    Repaired "repaired" "Something broken was repaired, since lenient reading was asked for."
    RecordSkipped "record-skipped" "A record cannot be read and was left out, since lenient reading was asked for."
    NotRead "not-read" "A document refers to something outside itself, which is not read."
    ListSometimes "list-sometimes" "Elements of XML that are a list where they are repeated, or a map where they have attributes, and something else elsewhere."
    NotChecked "not-checked" "A document was not checked, since no schema is for it."
    NotValid "not-valid" "A document breaks a rule of a schema."
    SchemaWrong "schema-wrong" "A schema is none, or refers to one that is not given."
    SchemaSuspect "schema-suspect" "A schema may mean something else than it says."
    PatchWrong "patch-wrong" "A patch is none."
    Patch "patch" "A patch does not apply to the document."
    KeySuggested "key-suggested" "The items of a list could be told by a member."
    KeyUnclear "key-unclear" "A key does not tell all items of a list apart."
    ChangesUnlisted "changes-unlisted" "Changes that are counted, and for which there is no room to be listed."
    Loss "loss" "Something that the format of the output cannot carry."
    CannotHold "cannot-hold" "The format of the output has no way to write a value."
    OneRecord "one-record" "A document of many records became one record of the output."
    SeveralResults "several-results" "Several results, and a format that holds one."
    ResultNothing "result-nothing" "The result is nothing."
    OutputFailed "output-failed" "The output, or a temporary file, cannot be written."
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_told_apart_and_spelled_alike() {
        let mut words: Vec<&str> = Code::ALL.iter().map(|code| code.word()).collect();
        assert!(words.iter().all(|w| w.bytes().all(|b| b.is_ascii_lowercase() || b == b'-')));
        words.sort_unstable();
        words.dedup();
        assert_eq!(words.len(), Code::ALL.len());
    }
}
