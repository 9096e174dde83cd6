"""Rule text to tree, by recursive descent, with errors that say what would have been right."""

from herald_core.rules.errors import RuleError, RuleProblem
from herald_core.rules.fields import OPERATORS, FieldSpec, FieldType, Vocabulary
from herald_core.rules.lexer import Kind, Token, problem, tokenize
from herald_core.rules.literals import LiteralError, read_literal
from herald_core.rules.printer import RESERVED
from herald_core.rules.tree import And, Clause, Everything, Node, Not, Op, Or, Value
from herald_core.text import closest

MAX_CLAUSES = 200
MAX_NESTING = 30
MAX_LIST = 1000

#: Operators made of words: the words in order, and the operator.
_WORD_OPERATORS = {tuple(op.value.split()): op for op in Op if op.value[0].isalpha()}
_LIST_OPERATORS = (Op.ANY_OF, Op.ALL_OF, Op.NONE_OF)


def parse(text: str, vocabulary: Vocabulary) -> Node:
    """The tree of a rule.

    Raises:
        RuleError: with every unknown field, wrong operator and wrong value found, or else with the
            first place where the text stops being a rule.
    """
    return _Parser(text, vocabulary).rule()


class _Parser:
    def __init__(self, text: str, vocabulary: Vocabulary) -> None:
        self.text = text
        self.vocabulary = vocabulary
        self.tokens = tokenize(text)
        self.at = 0
        self.clause_count = 0
        self.problems: list[RuleProblem] = []

    # -- tokens -------------------------------------------------------------------------------

    @property
    def token(self) -> Token:
        return self.tokens[self.at]

    def sees(self, kind: Kind) -> bool:
        return self.token.kind is kind

    def take(self) -> Token:
        token = self.token
        self.at += 1
        return token

    def take_word(self, word: str) -> bool:
        if self.token.word == word:
            self.at += 1
            return True
        return False

    def note(self, token: Token, message: str, expected: tuple[str, ...] = (), near: str | None = None) -> None:
        self.problems.append(problem(self.text, token.start, token.end, message, expected, near))

    def fail(self, message: str, expected: tuple[str, ...] = (), near: str | None = None) -> RuleError:
        self.note(self.token, message, expected, near)
        return RuleError(tuple(sorted(self.problems, key=lambda p: (p.line, p.column))))

    # -- grammar ------------------------------------------------------------------------------

    def rule(self) -> Node:
        if self.sees(Kind.END):
            raise self.fail("The rule is empty, so it would match nobody.", ("a field", "everything"))
        node = self.either(0)
        if not self.sees(Kind.END):
            raise self.trailing()
        if self.problems:
            raise RuleError(tuple(self.problems))
        return node

    def trailing(self) -> RuleError:
        token = self.token
        if token.kind is Kind.CLOSE:
            return self.fail("This parenthesis closes nothing.", ("and", "or"))
        before = self.tokens[self.at - 1]
        if token.kind is Kind.WORD and before.kind is Kind.WORD:
            near = closest(token.value, ("and", "or")) or f'"{before.value} {token.value}"'
            return self.fail("Expected “and” or “or” here; a value of several words needs quotes.", ("and", "or"), near)
        return self.fail("Expected “and” or “or” here.", ("and", "or"))

    def either(self, depth: int) -> Node:
        operands = [self.both(depth)]
        while self.take_word("or"):
            operands.append(self.both(depth))
        return operands[0] if len(operands) == 1 else Or(tuple(operands))

    def both(self, depth: int) -> Node:
        operands = [self.negation(depth)]
        while self.take_word("and"):
            operands.append(self.negation(depth))
        return operands[0] if len(operands) == 1 else And(tuple(operands))

    def negation(self, depth: int) -> Node:
        if depth > MAX_NESTING:
            raise self.fail(f"Parentheses and “not” go at most {MAX_NESTING} deep.")
        if self.take_word("not"):
            return Not(self.negation(depth + 1))
        if self.sees(Kind.OPEN):
            self.take()
            node = self.either(depth + 1)
            if not self.sees(Kind.CLOSE):
                raise self.fail("Expected “)” here.", (")", "and", "or"))
            self.take()
            return node
        if self.take_word("everything"):
            return Everything()
        return self.clause()

    def clause(self) -> Node:
        name = self.token
        if name.kind is not Kind.WORD or name.word in RESERVED:
            raise self.fail("Expected a field here, such as model or tag.", ("a field", "not", "(", "everything"))
        self.take()
        self.clause_count += 1
        if self.clause_count > MAX_CLAUSES:
            raise self.fail(f"A rule has at most {MAX_CLAUSES} clauses.")
        spec = self.vocabulary.get(name.value) or self.vocabulary.get(name.word)
        if spec is None:
            near = closest(name.value, self.vocabulary.fields)
            self.note(name, f"No device has a field called {name.value}.", tuple(sorted(self.vocabulary.fields)), near)
        op = self.operator(spec)
        values = self.operands(spec, op)
        return Clause(spec.key if spec else name.value, op, values, name.start, self.tokens[self.at - 1].end)

    def operator(self, spec: FieldSpec | None) -> Op:
        allowed = OPERATORS[spec.type] if spec else tuple(Op)
        first = self.token
        op = self.read_operator()
        if op is None:
            expected = tuple(o.value for o in allowed)
            near = closest(first.value, expected) if first.kind is Kind.WORD else None
            raise self.fail("Expected an operator here.", expected, near)
        if op not in allowed and spec:
            message = f"{spec.key} is {_type_words(spec.type)}, which “{op}” does not apply to."
            self.note(first, message, tuple(o.value for o in allowed))
        return op

    def read_operator(self) -> Op | None:
        if self.sees(Kind.COMPARE):
            return Op(self.take().value)
        for words, op in _WORD_OPERATORS.items():
            if all(self.tokens[min(self.at + i, len(self.tokens) - 1)].word == w for i, w in enumerate(words)):
                self.at += len(words)
                return op
        return None

    def operands(self, spec: FieldSpec | None, op: Op) -> tuple[Value, ...]:
        if op in (Op.IS_SET, Op.IS_MISSING):
            return ()
        if op is Op.BETWEEN:
            low = self.literal(spec, op)
            if not self.take_word("and"):
                raise self.fail("Expected “and” and the upper end here.", ("and",))
            return (low, self.literal(spec, op))
        if op not in _LIST_OPERATORS:
            return (self.literal(spec, op),)
        if not self.sees(Kind.OPEN):
            raise self.fail(f"Expected “(” and a list of values after “{op}”.", ("(",))
        self.take()
        values = [self.literal(spec, op)]
        while self.sees(Kind.COMMA):
            self.take()
            if len(values) >= MAX_LIST:
                raise self.fail(f"A list has at most {MAX_LIST:,} values.".replace(",", " "))
            values.append(self.literal(spec, op))
        if not self.sees(Kind.CLOSE):
            message = "Expected “,” or “)” here; a value of several words needs quotes."
            raise self.fail(message, (",", ")"))
        self.take()
        return tuple(values)

    def literal(self, spec: FieldSpec | None, op: Op) -> Value:
        token = self.token
        if token.kind not in (Kind.WORD, Kind.STRING) or token.word in RESERVED:
            message = "Expected a value here."
            if token.word in RESERVED:
                message = f"“{token.value}” is a word of the language; put it in quotes to use it as a value."
            raise self.fail(message, ("a value",), f'"{token.value}"' if token.word in RESERVED else None)
        self.take()
        if spec is None or op not in OPERATORS[spec.type]:
            return token.value
        try:
            return read_literal(token, spec, op)
        except LiteralError as error:
            self.note(token, str(error), error.expected, error.nearest)
            return token.value


def _type_words(kind: FieldType) -> str:
    return {
        FieldType.TEXT: "text",
        FieldType.CHOICE: "a choice",
        FieldType.NUMBER: "a number",
        FieldType.YES_NO: "yes or no",
        FieldType.DATE: "a day",
        FieldType.TIME: "a time",
        FieldType.VERSION: "a version",
        FieldType.SET: "a set of words",
        FieldType.GROUP: "a set of groups",
    }[kind]
