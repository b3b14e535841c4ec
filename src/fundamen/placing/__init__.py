"""How does a file get other content, so that it is whole at every moment?"""
