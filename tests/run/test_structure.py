"""The shape of the code, as far as a tool can see it."""

import grimp


def test_no_modules_import_each_other_in_a_circle():
    """Imports inside functions count too: a circle that is hidden there is one all the same."""
    graph = grimp.build_graph("watchtide", cache_dir=None)
    imports = {module: graph.find_modules_directly_imported_by(module) for module in graph.modules}
    # What imports nothing that is left, is left out; what stays is in a circle or imports one.
    while free := [module for module, others in imports.items() if not others & imports.keys()]:
        for module in free:
            del imports[module]
    assert not imports, sorted(imports)
