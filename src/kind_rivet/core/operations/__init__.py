"""The registry of operations: one frozen set of plain parameters and one function each."""

from kind_rivet.core.operations.registry import Operation, Progress, all_operations, operation, perform, quiet

__all__ = ["Operation", "Progress", "all_operations", "operation", "perform", "quiet"]
