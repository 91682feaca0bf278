//! The tree of an expression: a flat list of nodes in which operands come before the nodes that use them.

use crate::literal::Literal;
use std::sync::Arc;
use yieldtray_source::Span;

/// The index of a node in its [`Tree`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NodeId(u32);

impl NodeId {
    /// The index.
    pub fn index(self) -> usize {
        self.0 as usize
    }
}

/// A range of node indices in the lists of a [`Tree`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Children {
    start: u32,
    length: u32,
}

/// A node with the part of the text that it was read from.
#[derive(Clone, Debug, PartialEq)]
pub struct Node {
    /// Its part of the text, in bytes; without the parentheses around it.
    pub span: Span,
    /// Its kind.
    pub kind: Kind,
}

/// The kind of a node.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    /// A part that could not be read; there is an error about it.
    Error,
    /// A literal.
    Literal(Literal),
    /// A name. `absolute` if it begins with a dot: then it is looked up without containers.
    Name {
        /// The name, without the dot.
        name: Arc<str>,
        /// True for `.name`.
        absolute: bool,
    },
    /// `operand.field`, or `operand.?field`.
    Select {
        /// The value that has the member.
        operand: NodeId,
        /// The name of the member.
        field: Arc<str>,
        /// Where the name is.
        field_span: Span,
        /// True for `.?`: the value is an optional.
        optional: bool,
    },
    /// `has(operand.field)`.
    Has {
        /// The value that may have the member.
        operand: NodeId,
        /// The name of the member.
        field: Arc<str>,
        /// Where the name is.
        field_span: Span,
    },
    /// `operand[index]`, or `operand[?index]`.
    Index {
        /// The list or map.
        operand: NodeId,
        /// The index or key.
        index: NodeId,
        /// True for `[?`: the value is an optional.
        optional: bool,
    },
    /// A call of a function, or of a method of `receiver`. `absolute` as for a name.
    Call {
        /// The name of the function.
        function: Arc<str>,
        /// Where the name is.
        name_span: Span,
        /// The value before the dot.
        receiver: Option<NodeId>,
        /// The arguments, in order.
        arguments: Children,
        /// True for `.function()` without a receiver.
        absolute: bool,
    },
    /// A macro: its arguments are not evaluated before it. Which macros there are and how they are evaluated is not the
    /// concern of the tree; the variables that it binds are.
    Macro {
        /// The name.
        name: Arc<str>,
        /// Where the name is.
        name_span: Span,
        /// The value before the dot; for `cel.bind` the value of the variable.
        receiver: NodeId,
        /// The names that it binds, with their places.
        variables: Vec<(Arc<str>, Span)>,
        /// The other arguments, in which the variables are bound.
        arguments: Children,
    },
    /// `-operand` or `!operand`.
    Unary {
        /// The operator.
        operator: Unary,
        /// Its operand.
        operand: NodeId,
    },
    /// Two operands and the operator between them.
    Binary {
        /// The operator.
        operator: Binary,
        /// Where it is.
        operator_span: Span,
        /// The left operand.
        left: NodeId,
        /// The right operand.
        right: NodeId,
    },
    /// `condition ? yes : no`.
    Conditional {
        /// The condition.
        condition: NodeId,
        /// The value if it is true.
        yes: NodeId,
        /// The value if it is false.
        no: NodeId,
    },
    /// `[a, ?b]`.
    List(Vec<Element>),
    /// `{key: value, ?key: optional}`.
    Map(Vec<Entry>),
    /// `name{field: value}`: a message of a type.
    Message {
        /// The name of the type, with dots.
        name: Arc<str>,
        /// Its fields, in order.
        fields: Vec<Field>,
    },
}

/// An element of a list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Element {
    /// The value.
    pub value: NodeId,
    /// True for `?value`: left out if the optional is empty.
    pub optional: bool,
}

/// An entry of a map.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The key.
    pub key: NodeId,
    /// The value.
    pub value: NodeId,
    /// True for `?key`: left out if the optional value is empty.
    pub optional: bool,
}

/// A field of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Field {
    /// The name.
    pub name: Arc<str>,
    /// Where the name is.
    pub span: Span,
    /// The value.
    pub value: NodeId,
    /// True for `?name`: left out if the optional value is empty.
    pub optional: bool,
}

/// An operator before its operand.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Unary {
    /// `-`
    Negate,
    /// `!`
    Not,
}

/// An operator between its operands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Binary {
    /// `||`
    Or,
    /// `&&`
    And,
    /// `==`
    Equal,
    /// `!=`
    NotEqual,
    /// `<`
    Less,
    /// `<=`
    LessOrEqual,
    /// `>`
    Greater,
    /// `>=`
    GreaterOrEqual,
    /// `in`
    In,
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`
    Divide,
    /// `%`
    Modulo,
}

impl Binary {
    /// The operator as it is written.
    pub fn as_str(self) -> &'static str {
        match self {
            Binary::Or => "||",
            Binary::And => "&&",
            Binary::Equal => "==",
            Binary::NotEqual => "!=",
            Binary::Less => "<",
            Binary::LessOrEqual => "<=",
            Binary::Greater => ">",
            Binary::GreaterOrEqual => ">=",
            Binary::In => "in",
            Binary::Add => "+",
            Binary::Subtract => "-",
            Binary::Multiply => "*",
            Binary::Divide => "/",
            Binary::Modulo => "%",
        }
    }

    /// How tightly it binds: from 2 for `||` to 6 for `*`; the conditional has 1.
    pub(crate) fn precedence(self) -> u8 {
        match self {
            Binary::Or => 2,
            Binary::And => 3,
            Binary::Equal
            | Binary::NotEqual
            | Binary::Less
            | Binary::LessOrEqual
            | Binary::Greater
            | Binary::GreaterOrEqual
            | Binary::In => 4,
            Binary::Add | Binary::Subtract => 5,
            Binary::Multiply | Binary::Divide | Binary::Modulo => 6,
        }
    }
}

/// The nodes of an expression. Dropping it needs no stack, however deep it is. Variables of macros, and parts of what
/// could not be read, are nodes that the root does not lead to.
#[derive(Clone, Debug, PartialEq)]
pub struct Tree {
    nodes: Vec<Node>,
    lists: Vec<NodeId>,
    root: NodeId,
}

impl Tree {
    /// The node of the whole expression.
    pub fn root(&self) -> NodeId {
        self.root
    }

    /// A node.
    pub fn node(&self, id: NodeId) -> &Node {
        &self.nodes[id.index()]
    }

    /// The nodes, operands before what uses them.
    pub fn nodes(&self) -> impl Iterator<Item = (NodeId, &Node)> {
        self.nodes.iter().enumerate().map(|(index, node)| (NodeId(index as u32), node))
    }

    /// The nodes of a list, in order.
    pub fn list(&self, children: Children) -> &[NodeId] {
        let start = children.start as usize;
        &self.lists[start..start + children.length as usize]
    }

    /// A tree without nodes, but with room for some, to which the parser adds them, the root last.
    pub(crate) fn with_room(nodes: usize) -> Self {
        Self { nodes: Vec::with_capacity(nodes), lists: Vec::new(), root: NodeId(0) }
    }

    pub(crate) fn add(&mut self, span: Span, kind: Kind) -> NodeId {
        let id = NodeId(u32::try_from(self.nodes.len()).expect("a text has fewer nodes than bytes"));
        self.nodes.push(Node { span, kind });
        id
    }

    pub(crate) fn set_root(&mut self, root: NodeId) {
        self.root = root;
    }

    pub(crate) fn add_list(&mut self, list: &[NodeId]) -> Children {
        let start = u32::try_from(self.lists.len()).expect("a text has fewer nodes than bytes");
        self.lists.extend_from_slice(list);
        Children { start, length: list.len() as u32 }
    }
}
