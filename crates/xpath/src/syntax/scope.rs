//! Variables in scope, as slots of the frame that an evaluation has.

/// The variables of the expression and of the inline functions around a place in it.
#[derive(Debug)]
pub(super) struct Scopes {
    /// The outermost first.
    functions: Vec<Function>,
}

/// The variables of one function body, or of the whole expression.
#[derive(Debug, Default)]
struct Function {
    visible: Vec<(String, usize)>,
    slots: usize,
    /// Slots of the function around it, and the own ones that they are copied to.
    captures: Vec<(usize, usize)>,
}

impl Scopes {
    pub(super) fn new(variables: &[String]) -> Self {
        let visible: Vec<_> =
            variables.iter().enumerate().map(|(slot, name)| (name.clone(), slot)).collect();
        let slots = visible.len();
        Self { functions: vec![Function { visible, slots, captures: Vec::new() }] }
    }

    fn innermost(&mut self) -> &mut Function {
        if self.functions.is_empty() {
            self.functions.push(Function::default());
        }
        let last = self.functions.len() - 1;
        &mut self.functions[last]
    }

    /// Binds a variable, until it is [taken back](Self::unbind); gives its slot.
    pub(super) fn bind(&mut self, name: &str) -> usize {
        let function = self.innermost();
        let slot = function.slots;
        function.slots += 1;
        function.visible.push((name.to_owned(), slot));
        slot
    }

    /// Ends the scope of the variable that was bound last.
    pub(super) fn unbind(&mut self) {
        self.innermost().visible.pop();
    }

    /// The slot of a variable; one of a function around this one is captured by all between.
    pub(super) fn find(&mut self, name: &str) -> Option<usize> {
        let is_named = |(known, _): &&(String, usize)| known == name;
        let (level, mut slot) =
            self.functions.iter().enumerate().rev().find_map(|(level, f)| {
                f.visible.iter().rev().find(is_named).map(|(_, slot)| (level, *slot))
            })?;
        for function in &mut self.functions[level + 1..] {
            let own = function.slots;
            function.slots += 1;
            function.captures.push((slot, own));
            // It is found here the next time; variables bound later hide it.
            function.visible.insert(0, (name.to_owned(), own));
            slot = own;
        }
        Some(slot)
    }

    /// The names in scope.
    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.functions.iter().flat_map(|f| f.visible.iter().map(|(name, _)| name.as_str()))
    }

    /// Begins the body of an inline function.
    pub(super) fn enter(&mut self) {
        self.functions.push(Function::default());
    }

    /// Ends the body: the slots that it captures, with the own ones, and how many slots it has.
    pub(super) fn leave(&mut self) -> (Vec<(usize, usize)>, usize) {
        let function = self.functions.pop().unwrap_or_default();
        (function.captures, function.slots)
    }

    /// How many slots the whole expression needs.
    pub(super) fn slots(&self) -> usize {
        self.functions.first().map_or(0, |function| function.slots)
    }
}
